"""What stops a site from meaning anything, and the words for it."""

from collections.abc import Iterable, Iterator

from msgspec import Struct

from ..values.addresses import Address
from ..values.text_value import SitePath
from .site import INTERNET, Site

MOST_NAMES = 12


class Problem(Struct, frozen=True):
    """Something that stops the site from meaning anything."""

    place: SitePath
    message: str


def did_you_mean(wrong: str, known: Iterable[str]) -> str:
    """“did you mean x?” or, with nothing near, what there is to choose from."""
    from difflib import get_close_matches  # only a mistake needs it, and it loads slowly

    names = list(known)
    near = get_close_matches(wrong, names, n=1, cutoff=0.6)
    if near:
        return f"did you mean “{near[0]}”?"
    shown = ", ".join(names[:MOST_NAMES])
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return f"known here: {shown}{more}" if names else "there are none yet"


def network_names(site: Site) -> list[str]:
    """All networks of the site; the internet is always one."""
    return [INTERNET, *(each.name for each in site.networks if each.name != INTERNET)]


def list_of_addresses(addresses: Iterable[Address]) -> str:
    """Addresses as a list in a sentence; “none” for none."""
    return ", ".join(map(str, addresses)) or "none"


def refers(what: str, name: str, names: list[str], place: SitePath) -> Iterator[Problem]:
    """A problem where a name refers to nothing that there is."""
    if name not in names:
        yield Problem(
            place,
            f"found no {what} “{name}”; expected one that the file has: {did_you_mean(name, names)}",
        )
