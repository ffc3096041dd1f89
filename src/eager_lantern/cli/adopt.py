"""``adopt``: reads a real device, server, survey or visit into the site file."""

import time
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ..core.changes.adopted import DeviceConfig, Direction, adopted
from ..core.changes.states import compared_overlay
from ..core.changes.steps import Overlay
from ..core.interview.learnt import Learnt, learnt_of
from ..core.interview.questions import refusal
from ..core.model.consistency import problems
from ..core.model.site import Client, Server, Site
from ..core.verdict import judge
from ..formats.devices.cells import read_device_text
from ..formats.devices.format import DeviceTarget
from ..formats.devices.kept_survey import mapped_forwards
from ..formats.devices.register import read_files
from ..formats.reading import BadInput, InputProblem, bad_file
from ..formats.results.adopt import FirstSiteResult, LearntResult, adopt_result
from ..formats.results.check import check_result
from ..formats.results.compare import compare_result
from ..formats.site.edits import adopted_text, patch
from ..formats.site.new_site import first_site, first_text, read_seen_of_site
from ..formats.site.site_file import SiteFile, as_typed, parse_site
from ..formats.site.yaml_tree import read_text
from ..formats.writing import rewrite, write, writes
from ..views.adopt import adopt_view, first_site_view
from .arguments.options import Forced, Format, Written, example
from .arguments.sites import known, the_transfer
from .exit_codes import BROKEN, KEPT, of_verdict
from .finish import finish


def service_of_settings(site: Site, device: str, name: str, settings: Sequence[DeviceConfig]) -> str:
    """The service that settings are of, which is one of the server's own."""
    if not settings:
        if name:
            raise typer.BadParameter("--service: only settings are of a service; these files are tables of a device")
        return ""
    if device != site.server.name:
        raise bad_file(
            settings[0].file, f"found settings of a server; expected those of {device}, which has no services"
        )
    protocols = {each.protocol or "ftp" for each in settings}
    if len(protocols) > 1:
        raise typer.BadParameter("these are settings of FTP and of SSH: name the files of one service at a time")
    return the_transfer(site, name, *protocols).name


def fits(site: Site, device: str, configs: Sequence[DeviceConfig]) -> None:
    """Raises BadInput for forwards of what is no gateway, and for rules of one family where a host has both."""
    gateways = {each.name for each in site.gateways}
    hosts: tuple[Server | Client, ...] = (site.server, *site.clients)
    addresses = [address for host in hosts if host.name == device for address in host.address.each]
    for each in configs:
        if missing_families := {address.family for address in addresses if address.family not in each.of_families}:
            missing = "ip6tables-save" if 6 in missing_families else "iptables-save"
            why = f"found rules of one IP family; expected both, as {device} has addresses: add what {missing} prints"
            raise bad_file(each.file, why)
        if each.subject == "forwards" and device not in gateways:
            listed = ", ".join(sorted(gateways)) or "none"
            raise bad_file(each.file, f"found forwards, and {device} is no gateway; expected one of: {listed}")


DEFAULT = Path("adopted.site.yaml")


def write_first_site(files: Sequence[str], save: Path | None, force: bool, form: Format) -> int:
    """Write the file, tell what was seen and what was not, and give the exit code of its check. Raises BadInput."""
    path = save or DEFAULT
    writes(path, force)
    read = {each: read_seen_of_site(Path(each)) for each in files}
    surveys = [(name, survey) for name, (survey, _) in read.items() if survey is not None]
    visits = [(name, facts) for name, (_, several) in read.items() for facts in several]
    found = learnt_of(surveys, visits)
    if not found:
        raise bad_file(files[0], "found nothing that a site file can state; expected forwards, rules or settings")
    answers, guessed = first_site(found)
    if trouble := refusal(answers):
        raise bad_file(
            files[0], f"found what makes no site ({trouble}); expected what does, or a site file to adopt into"
        )
    day = time.strftime("%Y-%m-%d")
    source = parse_site(str(path), first_text(answers, guessed, found, day))
    configs = [
        DeviceConfig(name, "forwards", mapped_forwards(survey))
        for name, survey in surveys
        if survey.mappings and source.site.gateways
    ]
    text = _with_forwards(source, first_text(answers, guessed, found, day), configs[:1], day)
    write({path: text.encode()}, force)
    _emit_first_site(parse_site(str(path), text), found, guessed, sum(len(each.values) for each in configs[:1]), form)
    return of_verdict(judge(parse_site(str(path), text).site).verdict)


def _with_forwards(source: SiteFile, text: str, configs: Sequence[DeviceConfig], day: str) -> str:
    """The text with the forwards that the router lists, where they fit the rest."""
    if not configs:
        return text
    wanted = adopted(source.site, source.site.gateways[0].name, "", "in", configs)
    return text if problems(wanted) else adopted_text(source, text, Overlay(source.site, wanted), configs, day).text


def _emit_first_site(
    source: SiteFile, found: dict[str, Learnt], guessed: Sequence[str], forwards: int, form: Format
) -> None:
    verdict = judge(source.site)
    seen = {key: each for key, each in found.items() if key not in guessed}
    result = FirstSiteResult(
        file=source.file,
        seen=tuple(
            LearntResult(key=key, answer=each.answer, seen_in=each.source, doubt=each.doubt)
            for key, each in seen.items()
        ),
        not_seen=tuple(guessed),
        forwards=forwards,
        check=check_result(verdict, source.line, source.file),
    )
    finish(lambda: result, lambda: first_site_view(source.file, seen, guessed, forwards), form)


app = typer.Typer(add_completion=False, rich_markup_mode=None)


class FilterDirection(StrEnum):
    """Which filter of a device or host rules are of."""

    into = "in"
    out = "out"


@app.command(epilog=example("eager-lantern adopt saltmarsh.site.yaml forwards.csv --device harbour-router"))
def adopt_command(
    files: Annotated[
        list[str],
        typer.Argument(help="The site file, then files of the device; without a site file, kept surveys and visits."),
    ],
    device: Annotated[str, typer.Option(help="The gateway, server or client that the files belong to.")] = "",
    service: Annotated[str, typer.Option(help="The service that settings belong to; default: the only one.")] = "",
    direction: Annotated[
        FilterDirection | None,
        typer.Option(help="Which filter rules are for, where a table states none: in (the default) or out."),
    ] = None,
    writes: Annotated[
        bool, typer.Option("--write", help="Write the site file; by default the difference is only shown.")
    ] = False,
    outside: Annotated[str, typer.Option(help="For a gateway's rule set: the name of its outside interface.")] = "",
    inside: Annotated[
        str, typer.Option(help="For a rule set: the name of a gateway's inside interface, or of a host's only one.")
    ] = "",
    save: Annotated[Path | None, typer.Option(help="Without a site file: the file to write.")] = None,
    force: Forced = False,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
    form: Written = Format.text,
) -> None:
    """Read a device's configuration into the site file.

    Reads the router's mappings in a kept survey; tables of forwards and filter rules, ours or any whose columns mean
    the same; rule sets of the Linux kernel and the status of its front ends; rules of Windows and of clouds; settings
    of four servers, or those of any other as a table of setting and value, as sheets writes it. Shows what that would
    change: promises and access. With --write the file is changed in those places alone, each with a remark of where it
    was read.

    Without a site file it writes a first one from kept surveys and visits: each line states its source, or that nothing
    was observed.

    Exit code 0: no promise and no way in is lost, 1: one is, 2: bad input.
    """
    site = Path(files[0])
    if site.suffix not in (".yaml", ".yml"):
        raise typer.Exit(write_first_site(files, save, force, form))
    files = files[1:]
    if not files or save is not None:
        raise typer.BadParameter("name the files of the device behind the site file; it is changed by --write")
    text = read_text(site)
    source = parse_site(as_typed(site), text)
    read = source.site
    devices = [read.server.name, *(each.name for each in read.gateways), *(each.name for each in read.clients)]
    way: Direction | None = direction.value if direction else None
    texts = {each: read_device_text(Path(each)) for each in files}
    configs = read_files(texts, DeviceTarget(read, device, way, outside, inside, service))
    if (outside or inside) and not any(each.of_ruleset for each in configs):
        raise typer.BadParameter("only a packet filter's rule set names interfaces: leave --outside and --inside out")
    settings = [each for each in configs if each.subject == "settings"]
    known("--device", device or (source.site.server.name if len(settings) == len(configs) else ""), devices)
    device = device or source.site.server.name
    service = service_of_settings(source.site, device, service, settings)
    fits(source.site, device, configs)
    wanted = adopted(source.site, device, service, way or "in", configs)
    if found := problems(wanted):
        raise BadInput(str(files[0]), *(InputProblem(0, f"in the site with it, {each.message}") for each in found))
    day = time.strftime("%Y-%m-%d")
    overlay = Overlay(source.site, wanted)
    made = adopted_text(source, text, overlay, configs, day)
    after = made.text
    if writes and after != text:
        rewrite(site, text, after)
    comparison = compared_overlay(overlay)
    lines = (source.line, made.source.line)
    difference = patch(text, after, source.file)
    written = writes and after != text
    words = ["adopt", as_typed(site), *files, "--device", device]
    words += ["--direction", direction.value] if direction else []
    words += ["--outside", outside] if outside else []
    words += ["--inside", inside] if inside else []
    names = source.file, source.file
    finish(
        lambda: adopt_result(device, configs, compare_result(comparison, names, lines), difference, written),
        lambda: adopt_view(comparison, device, configs, difference, tuple(words), written, whole),
        form,
    )
    raise typer.Exit(BROKEN if comparison.verdict == "lost" else KEPT)
