"""``adopt``: what a real device or server says of itself, taken into the site file."""

import time
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ..core.adoption.adopt import adopted
from ..core.adoption.told import Direction
from ..core.comparison.edits import Overlay
from ..core.comparison.with_site import compared
from ..core.model.consistency import problems
from ..files.adopted_file import adopted_text
from ..files.atomic_write import rewrite
from ..files.mended_file import patch
from ..files.problem import BadInput, InputProblem
from ..files.rule_table import read_table_text
from ..files.rulesets.gateway import Sides
from ..files.site_file import as_typed, parse_site
from ..files.yaml_tree import read_text
from ..views.adopt_view import adopt_view
from .adopt_readings import fits, readings_of, service_of_settings
from .arguments.example import example
from .arguments.options import Forced, Format, Written
from .arguments.site_names import known
from .exit_codes import BROKEN, KEPT
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)


class Way(StrEnum):
    """Which filter of a device or host rules are of."""

    into = "in"
    out = "out"


@app.command(epilog=example("eager-lantern adopt saltmarsh.site.yaml forwards.csv --device harbour-router"))
def adopt_command(
    files: Annotated[
        list[str],
        typer.Argument(help="The site file, then files of the device; without a site file, kept surveys and visits."),
    ],
    device: Annotated[str, typer.Option(help="The gateway, server or client that the files are of.")] = "",
    service: Annotated[str, typer.Option(help="The service that settings are of; default: the only one.")] = "",
    direction: Annotated[
        Way, typer.Option(help="Which filter a table of rules is of: what comes in, or what goes out.")
    ] = Way.into,
    writes: Annotated[
        bool, typer.Option("--write", help="Write the site file; else the difference is only shown.")
    ] = False,
    outside: Annotated[
        str, typer.Option(help="Of a gateway's rule set: the interface on its outside, as the rules call it.")
    ] = "",
    inside: Annotated[
        str, typer.Option(help="Of a rule set: the interface on a gateway's inside, or a host's only one.")
    ] = "",
    save: Annotated[Path | None, typer.Option(help="Without a site file: the file to write.")] = None,
    force: Forced = False,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
    form: Written = Format.text,
) -> None:
    """Take what a device says of itself into the site file.

    Reads the router's mappings in a kept survey; tables of forwards and filter rules as CSV, ours or any whose columns
    mean the same; settings of ProFTPD, of Pure-FTPd and of OpenSSH; or those of any server as a table of setting and
    value, as sheets writes it. Shows what that would change: promises, who reaches what. With --write the file is
    changed in those places alone, each with a remark of where it was read.

    Without a site file it writes a first one from surveys and visits that were kept: each line bears where it was
    seen, or that nobody has seen it.

    Exit code 0: nothing is lost by it, 1: a promise is, or a way in, 2: bad input.
    """
    site = Path(files[0])
    if site.suffix not in (".yaml", ".yml"):
        from .adopt_first import write_first_site  # templates load slowly

        raise typer.Exit(write_first_site(files, save, force, form))
    files = files[1:]
    if not files or save is not None:
        raise typer.BadParameter("name the files of the device behind the site file; it is changed by --write")
    text = read_text(site)
    source = parse_site(as_typed(site), text)
    read = source.site
    names = [read.server.name, *(each.name for each in read.gateways), *(each.name for each in read.clients)]
    way: Direction = "in" if direction is Way.into else "out"
    texts = {each: read_table_text(Path(each)) for each in files}
    readings = readings_of(texts, read, device, way, Sides(outside, inside))
    settings = [each for each in readings if each.subject == "settings"]
    known("--device", device or (source.site.server.name if len(settings) == len(readings) else ""), names)
    device = device or source.site.server.name
    service = service_of_settings(source.site, device, service, settings)
    fits(source.site, device, readings)
    wanted = adopted(source.site, device, service, way, readings)
    if found := problems(wanted):
        raise BadInput(str(files[0]), *(InputProblem(0, f"does not fit the site: {each.message}") for each in found))
    day = time.strftime("%Y-%m-%d")
    overlay = Overlay(source.site, wanted)
    made = adopted_text(source, text, overlay, readings, day)
    after = made.text
    if writes and after != text:
        rewrite(site, text, after)
    comparison = compared(overlay)
    lines = (source.line, made.source.line)
    difference = patch(text, after, source.file)
    written = writes and after != text
    if form is Format.json:
        from ..files.results.adopt import adopt_result  # many results load with it
        from ..files.results.compare import compare_result
        from ..files.results.text import as_json

        held = compare_result(comparison, (source.file, source.file), lines)
        emit(as_json(adopt_result(device, readings, held, difference, written)))
    else:
        words = (
            "adopt",
            as_typed(site),
            *files,
            "--device",
            device,
            *(("--direction", "out") if direction is Way.out else ()),
            *(("--outside", outside) if outside else ()),
            *(("--inside", inside) if inside else ()),
        )
        show(adopt_view(comparison, device, readings, difference, words, written, whole))
    raise typer.Exit(BROKEN if comparison.verdict == "lost" else KEPT)
