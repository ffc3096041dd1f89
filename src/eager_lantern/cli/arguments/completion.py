"""What a shell may complete: the site's own names, read from the site file that is meant.

Whatever is wrong with that file, completion stays silent: the command itself will tell.
"""

from collections.abc import Iterable
from pathlib import Path

import typer

from ...core.model.problem import network_names
from ...core.model.site import Site
from ...formats.reading import BadInput
from ...formats.shipped import finding_pages
from ...formats.site.site_file import find_site_file, read_site


def clients(ctx: typer.Context, incomplete: str) -> list[str]:
    """The site's clients, and its networks, which stand for anybody on them."""
    return _beginning(incomplete, (name for site in _site(ctx) for name in (*_clients(site), *network_names(site))))


def own_clients(ctx: typer.Context, incomplete: str) -> list[str]:
    """The site's clients."""
    return _beginning(incomplete, (name for site in _site(ctx) for name in _clients(site)))


def services(ctx: typer.Context, incomplete: str) -> list[str]:
    """The site's services."""
    return _beginning(incomplete, (each.name for site in _site(ctx) for each in site.services))


def devices(ctx: typer.Context, incomplete: str) -> list[str]:
    """The site's hosts and gateways."""
    return _beginning(incomplete, (name for site in _site(ctx) for name in _devices(site)))


def captures(ctx: typer.Context, incomplete: str) -> list[str]:
    """A host or gateway and a file for its packets."""
    return _beginning(incomplete, (f"{name}={name}.pcap" for site in _site(ctx) for name in _devices(site)))


def kinds(incomplete: str) -> list[str]:
    """The kinds of findings, and the keys of the site file."""
    from ...formats.site.reference import key_paths

    return _beginning(incomplete, [*finding_pages(), *(path for path, _ in key_paths())])


def results(incomplete: str) -> list[str]:
    """The kinds of results that have a schema."""
    from ...formats.results.formats import FORMATS

    return _beginning(incomplete, FORMATS)


def _clients(site: Site) -> list[str]:
    return [each.name for each in site.clients]


def _devices(site: Site) -> list[str]:
    return [site.server.name, *(each.name for each in site.gateways), *_clients(site)]


def _site(ctx: typer.Context) -> list[Site]:
    """The site that the words so far name, or the only one here; none where it cannot be read."""
    # While an option still lacks its value, arguments have not found their place yet.
    waiting = next((each for each in ctx.args if not each.startswith("-")), None)
    named = ctx.params.get("site") or ctx.params.get("target") or waiting
    try:
        return [read_site(find_site_file(Path(named) if named else None)).site]
    except (BadInput, OSError):
        return []


def _beginning(incomplete: str, names: Iterable[str]) -> list[str]:
    return [each for each in names if each.startswith(incomplete)]
