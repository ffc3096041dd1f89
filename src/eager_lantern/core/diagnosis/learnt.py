"""What was seen of a site that nobody has written down yet, as answers to the questions of a first site file.

An address that a server names in its passive reply is its own where it is private. Where it is public, it is what
clients come by, unless it was seen what they type.
"""

from collections.abc import Sequence

from ..model.site import Site
from ..values.outcomes import ORDER
from .sighting import Sighting


def learnt(site: Site, sightings: Sequence[Sighting]) -> dict[str, str]:
    """Answers by the key of their question (:func:`..interview.questions`). What was seen in two ways is left out."""
    named = {each.announced for each in sightings} - {None}
    public = {str(each) for each in named if each is not None and each.kind == "public"}
    seen = {
        "clients_can": {_means(site, each) for each in sightings} - {""},
        "address": {str(each) for each in named if each is not None and each.kind == "private"},
        "typed": {each.typed for each in sightings if each.typed} or public,
    }
    return {key: answer for key, answers in seen.items() if len(answers) == 1 for answer in answers}


def _means(site: Site, seen: Sighting) -> str:
    """What a client was seen to be able to do; one that came in without TLS may know it all the same."""
    if any(each.name == seen.tried.service and each.protocol == "sftp" for each in site.services):
        return "ssh"
    under_tls = seen.reached is not None and ORDER.index(seen.reached) >= ORDER.index("secure")
    return "tls" if seen.tried.secured and under_tls else ""
