"""Parts of a site that an option names."""

from collections.abc import Sequence

import typer

from ...core.model.consistency import did_you_mean
from ...core.model.site import Service, Site


def known(option: str, name: str, names: Sequence[str]) -> None:
    """Raises BadParameter for a name that is missing or that the site does not have."""
    if not name:
        raise typer.BadParameter(f"{option} is needed; this site has {', '.join(names) or 'none'}")
    if name not in names:
        raise typer.BadParameter(f"{option}: there is no “{name}”{did_you_mean(name, names)}")


def the_transfer(site: Site, name: str, *protocols: str) -> Service:
    """The service of this name; without a name, the only one of these protocols. Raises BadParameter."""
    transfers = [each for each in site.services if each.protocol in protocols]
    if not name and len(transfers) == 1:
        return transfers[0]
    known("--service", name, [each.name for each in (site.services if name else transfers)])
    return next(each for each in site.services if each.name == name)
