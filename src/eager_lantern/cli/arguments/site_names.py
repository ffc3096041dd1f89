"""Parts of a site that an option names."""

from collections.abc import Sequence
from pathlib import Path

import typer

from ...core.model.problem import did_you_mean
from ...core.model.site import Service, Site
from ...live.vantage.address import OWN_PLACE, checked_place


def the_place(option: str, text: str) -> str:
    """A place to stand: ``here``, or a host that is reached over SSH. Raises BadParameter."""
    try:
        return text if text == OWN_PLACE else checked_place(text)
    except ValueError as error:
        raise typer.BadParameter(f"{option}: {error}") from None


def client_and_file(text: str) -> tuple[str, Path]:
    """``CLIENT=FILE``, or a file alone. A file whose name has an equals sign in it is one that is there."""
    client, equals, name = text.partition("=")
    if not equals or Path(text).exists():
        return "", Path(text)
    return client, Path(name)


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
