"""``sheets``: for each device the page to work from, for clients the connection card."""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Annotated

import typer

from ..core.model.site import Site
from ..core.sheets.all import Sheets, sheets_of
from ..core.sheets.difference import changed_sheets
from ..core.sheets.sheet import Sheet, distinct, slug
from ..core.verdict import judge
from ..formats.devices.format import WrittenFile
from ..formats.devices.register import endings, files_of
from ..formats.results.pages import SheetsResult
from ..formats.shipped import shipped_text
from ..formats.site.site_file import PATTERN, SiteFile, as_typed, find_site_file, read_site
from ..formats.writing import folder_for_new, write
from ..views.pages import grid_csv, sheet_markdown, sheet_pages
from ..views.setting_up import sheets_view
from .arguments.options import Format, SiteArgument, example
from .exit_codes import of_verdict
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern sheets saltmarsh.site.yaml --into pages"))
def sheets(
    site: SiteArgument = None,
    into: Annotated[
        Path | None, typer.Option(help="The folder to write to; default: named after the site file.")
    ] = None,
    since: Annotated[
        Path | None, typer.Option(help="Only what changes since this site file, and how to take it back.")
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Replace files of the same names.")] = False,
    form: Annotated[
        Format, typer.Option("--format", help="What is shown: text for people, json for programs.")
    ] = Format.text,
) -> None:
    """Write the pages to work from, one a device.

    What to enter, in the order of the work, and how to see that it took.

    Markdown pages, one HTML file to print, CSV of the tables, for Linux devices a rule file, for a server scripts that
    give its rules to the front end or the Windows filter that runs there, for a cloud the commands of three providers,
    all of which take back what they entered, and fragments of the own files of four servers (docs/devices.md). With
    --since the pages of what changes alone: each row to add, change or take out, and what takes it back.
    Exit code 1 where the site as described does not keep its promises.
    """
    source = read_site(find_site_file(site))
    verdict = judge(source.site)
    to_load = files_of(source.site)
    if since is not None:
        earlier = read_site(find_site_file(since)).site
        kept = {(each.name, each.text) for each in files_of(earlier)}
        to_load = tuple(each for each in to_load if (each.name, each.text) not in kept)
    named = _rule_files(source.site, to_load)
    result = sheets_of(verdict, as_typed(Path(Path(source.file).name)), named, _digests(source))
    if since is not None:
        result = changed_sheets(sheets_of(judge(earlier), as_typed(since), named, _digests(source)), result)
    folder = into or Path(source.file).with_name(f"{Path(source.file).name.removesuffix(PATTERN[1:])}-pages")
    written = {folder / name: text.encode() for name, text in _files(result)}
    written |= {folder / each.name: each.text.encode() for each in to_load}
    with folder_for_new(folder):
        write(written, force)
    names = [each.name for each in written]
    stale = _stale(folder, names)
    made = SheetsResult(
        folder=str(folder),
        files=tuple(names),
        stale=tuple(stale),
        title=result.title,
        trouble=result.trouble,
        pages=result.pages,
    )
    finish(lambda: made, lambda: sheets_view(result, str(folder), names, stale), form)
    raise typer.Exit(of_verdict(verdict.verdict))


def _rule_files(site: Site, files: Sequence[WrittenFile]) -> dict[str, list[str]]:
    """The files by which rules of a device are entered: to load, or the scripts for a cloud."""
    clouds = {each.name for each in site.gateways if each.system == "cloud"}
    found: dict[str, list[str]] = {}
    for each in files:
        if each.name.endswith(".nft") or each.owner in clouds:
            found.setdefault(each.owner, []).append(each.name)
    return found


def _stale(folder: Path, names: Sequence[str]) -> list[str]:
    """Files in the folder that look like pages of an earlier run, which this one has not written."""
    found = (each.name for each in folder.iterdir() if each.name not in names)
    ends = tuple(f".{each}" for each in endings())
    return sorted(name for name in found if _PAGE.match(name) or name.endswith(ends))


_PAGE = re.compile(r"[0-9]{2,}-.*\.(md|csv)")


def _digests(source: SiteFile) -> dict[str, str]:
    """The digests of the certificates that the site names and that can be read here."""
    if not any(each.tls.certificate for each in source.site.services):
        return {}
    from ..formats.certificates import digest_of  # cryptography loads slowly

    found = ((each.name, digest_of(source, each)) for each in source.site.services)
    return {name: digest for name, digest in found if digest is not None}


def _files(result: Sheets) -> Iterator[tuple[str, str]]:
    """The names and contents of all pages and tables."""
    yield "all-pages.html", sheet_pages(result, shipped_text("pages.html.j2"))
    for number, sheet in enumerate(result.pages):
        stem = f"{number:02}-{slug(sheet.name)}"
        yield f"{stem}.md", sheet_markdown(result.title, result.trouble, sheet)
        yield from _csv_tables(stem, sheet)


def _csv_tables(stem: str, sheet: Sheet) -> Iterator[tuple[str, str]]:
    tables = [each for each in sheet.parts if each.grid is not None and each.grid.purpose == "enter"]
    names = distinct(f"{stem}-{slug(each.title)}.csv" for each in tables)
    if sheet.kind != "order":
        for part, name in zip(tables, names, strict=True):
            if part.grid is not None:
                yield name, grid_csv(part.grid)
