"""``adopt``: what a real device or server says of itself, taken into the site file."""

import time
from collections.abc import Mapping, Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ..core.adoption.adopt import adopted
from ..core.adoption.told import Direction, Reading
from ..core.comparison.with_site import compare
from ..core.model.consistency import problems
from ..core.model.site import Client, Gateway, Server, Site
from ..files.adopted_file import adopted_text
from ..files.atomic_write import write
from ..files.first_site import is_kept_result
from ..files.gateway_ruleset import Sides, items_of_nft, read_gateway
from ..files.iptables_ruleset import is_iptables, items_of_iptables, read_iptables
from ..files.mended_file import patch
from ..files.nft_ruleset import is_ruleset, read_ruleset
from ..files.problem import BadInput, InputProblem
from ..files.results.adopt import adopt_result
from ..files.results.base import as_json
from ..files.results.compare import compare_result
from ..files.rule_table import is_rule_table, read_rule_table, read_table_text
from ..files.server_settings import read_settings
from ..files.site_file import parse_site, read_site
from ..files.survey_file import read_mappings
from ..files.system_settings import is_sysctl, read_sysctl
from ..files.yaml_tree import read_text
from ..views.adopt_view import adopt_view
from .adopt_first import write_first_site
from .arguments.options import Forced, Format, Written, example
from .arguments.site_names import known, the_transfer
from .exit_codes import BROKEN, KEPT
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
KINDS = (
    "a kept survey, a table of forwards or rules (CSV), a host's rule set (nft -j list ruleset, iptables-save), "
    "settings of ProFTPD or Pure-FTPd, what sshd -T or sysctl prints, or a table of setting and value"
)


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
    inside: Annotated[str, typer.Option(help="Of a gateway's rule set: the interface on its inside.")] = "",
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
        raise typer.Exit(write_first_site(files, save, force, form))
    files = files[1:]
    if not files or save is not None:
        raise typer.BadParameter("name the files of the device behind the site file; it is changed by --write")
    source, text = read_site(site), read_text(site)
    read = source.site
    names = [read.server.name, *(each.name for each in read.gateways), *(each.name for each in read.clients)]
    way: Direction = "in" if direction is Way.into else "out"
    texts = {each: read_table_text(Path(each)) for each in files}
    behind = next((each for each in read.gateways if each.name == device), None)
    readings = [read_sysctl(file, text, behind is not None) for file, text in texts.items() if is_sysctl(text)]
    texts = {file: text for file, text in texts.items() if not is_sysctl(text)}
    if behind is not None and any(is_ruleset(each) or is_iptables(each) for each in texts.values()):
        readings += _of_gateway(texts, read, behind, Sides(outside, inside))
    else:
        readings += _readings(texts, way)
    settings = [each for each in readings if each.subject == "settings"]
    known("--device", device or (source.site.server.name if len(settings) == len(readings) else ""), names)
    device = device or source.site.server.name
    service = _service(source.site, device, service, settings)
    _fits(source.site, device, readings)
    wanted = adopted(source.site, device, service, way, readings)
    if found := problems(wanted):
        raise BadInput(str(files[0]), *(InputProblem(0, f"does not fit the site: {each.message}") for each in found))
    day = time.strftime("%Y-%m-%d")
    after = adopted_text(source, text, wanted, readings, day) if wanted != source.site else text
    if writes and after != text:
        write({site: after.encode()}, force=True)
    comparison = compare(source.site, wanted)
    lines = (source.line, parse_site(source.file, after).line)
    difference = patch(text, after, source.file)
    written = writes and after != text
    if form is Format.json:
        compared = compare_result(comparison, (source.file, source.file), lines)
        emit(as_json(adopt_result(device, readings, compared, difference, written)))
    else:
        words = (
            "adopt",
            str(site),
            *files,
            "--device",
            device,
            *(("--direction", "out") if direction is Way.out else ()),
            *(("--outside", outside, "--inside", inside) if outside else ()),
        )
        show(adopt_view(comparison, device, readings, difference, words, written, whole))
    raise typer.Exit(BROKEN if comparison.verdict == "lost" else KEPT)


def _of_gateway(texts: Mapping[str, str], site: Site, gateway: Gateway, sides: Sides) -> list[Reading]:
    """The rule set of a gateway, of which it has to be known which interface is on which side. Raises BadInput and
    BadParameter."""
    if not sides.outside or not sides.inside:
        raise typer.BadParameter(f"which interface is on which side of {gateway.name}? --outside NAME --inside NAME")
    older = {file: text for file, text in texts.items() if is_iptables(text)}
    newer = {file: text for file, text in texts.items() if file not in older}
    if (older and newer) or len(newer) > 1:
        raise typer.BadParameter("one rule set of a gateway at a time, and no table beside it")
    items = items_of_iptables(older) if older else items_of_nft(*next(iter(newer.items())))
    return list(read_gateway(", ".join(texts), items, site, gateway, sides))


def _readings(texts: Mapping[str, str], direction: Direction) -> list[Reading]:
    """What each file is, by what stands in it; lists of iptables are of both families together. Raises BadInput."""
    tables = {file: text for file, text in texts.items() if is_iptables(text)}
    found = [_reading(file, text, direction) for file, text in texts.items() if file not in tables]
    return [*found, read_iptables(tables, direction)] if tables else found


def _reading(file: str, text: str, direction: Direction) -> Reading:
    if is_kept_result(text):
        return read_mappings(file)
    if is_ruleset(text):
        return read_ruleset(file, text, direction)
    if is_rule_table(text):
        return read_rule_table(file, text)
    found = read_settings(file, text)
    if found is None:
        raise BadInput(file, InputProblem(0, f"is none of what is read here: {KINDS}"))
    return found


def _service(site: Site, device: str, name: str, settings: Sequence[Reading]) -> str:
    """The service that settings are of, which is one of the server's own."""
    if not settings:
        if name:
            raise typer.BadParameter("--service: only settings are of a service; these files are tables of a device")
        return ""
    if device != site.server.name:
        raise BadInput(settings[0].file, InputProblem(0, f"are settings of a server; {device} has no services"))
    protocols = {each.protocol or "ftp" for each in settings}
    if len(protocols) > 1:
        raise typer.BadParameter("these are settings of FTP and of SSH: name the files of one service at a time")
    return the_transfer(site, name, *protocols).name


def _fits(site: Site, device: str, readings: Sequence[Reading]) -> None:
    """Raises BadInput for forwards of what is no gateway, and for rules of one family where a host has both."""
    gateways = {each.name for each in site.gateways}
    hosts: tuple[Server | Client, ...] = (site.server, *site.clients)
    addresses = [address for host in hosts if host.name == device for address in host.address.each]
    for each in readings:
        if untold := {address.family for address in addresses if address.family not in each.of_families}:
            missing = "ip6tables-save" if 6 in untold else "iptables-save"
            why = f"tells of one family alone, and {device} has addresses of both: give what {missing} prints as well"
            raise BadInput(each.file, InputProblem(0, why))
        if each.subject == "forwards" and device not in gateways:
            listed = ", ".join(sorted(gateways)) or "none"
            raise BadInput(each.file, InputProblem(0, f"has forwards, and {device} is no gateway; there are: {listed}"))
