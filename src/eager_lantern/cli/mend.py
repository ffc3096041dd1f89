"""``mend``: the fewest and cheapest changes of the site file that keep every promise."""

from collections.abc import Sequence
from typing import Annotated, get_args

import typer

from ..core.diagnosis.fault import Fault, FaultKind
from ..core.findings.finding import FindingKind, devices_of
from ..core.mending.mend import mend, undone
from ..core.mending.plan import Plan, Wishes
from ..core.model.change import changed
from ..core.model.site import Site
from ..core.sheets.all import sheets_of
from ..core.sheets.difference import change_pages
from ..core.sheets.sheet import Sheet
from ..core.verdict import judge
from ..formats.results.mend import mend_result
from ..formats.site.edits import mended_text, patch
from ..formats.site.site_file import as_typed, find_site_file, parse_site
from ..formats.site.yaml_tree import read_text
from ..formats.weights import shipped_costs, shipped_knowledge
from ..formats.writing import rewrite
from ..views.mend import mend_view
from ..views.screen import command_line
from .arguments.options import Format, SiteArgument, Written, example
from .arguments.sites import known
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern mend saltmarsh.site.yaml --write"))
def mend_command(
    site: SiteArgument = None,
    cause: Annotated[
        list[str] | None,
        typer.Option(help="Only cures of this kind of finding or fault; may be repeated."),
    ] = None,
    only: Annotated[
        list[str] | None, typer.Option(help="Change this device, client or name alone; may be repeated.")
    ] = None,
    never: Annotated[
        list[str] | None, typer.Option(help="Never change this device, client or name; may be repeated.")
    ] = None,
    at_most: Annotated[int, typer.Option(min=0, max=20, help="How many other plans to show, dearer ones as well.")] = 0,
    allow_loss: Annotated[bool, typer.Option(help="Allow plans that take away access that works now.")] = False,
    writes: Annotated[
        bool, typer.Option("--write", help="Write the site file; by default the patch is only shown.")
    ] = False,
    form: Written = Format.text,
) -> None:
    """Find the cheapest changes that keep every promise.

    Promises of “shut” included; and nothing is opened that the promises do not need. What a change costs
    depends on whose device it is on. A cause that diagnose names on a device is undone there: what to look at
    and to enter is shown, as the file states.

    The file is changed in those places alone: comments, order and quotes stay. Exit code 0: all promises are kept
    (with --write: by now), 1: changes are proposed (with --cause of devices as well), or nothing helps,
    2: bad input, 3: cannot tell.
    """
    path = find_site_file(site)
    text = read_text(path)
    source = parse_site(as_typed(path), text)
    for each in cause or ():
        known("--cause", each, (*get_args(FindingKind), *get_args(FaultKind)))
    for option, names in (("--only", only), ("--never", never)):
        for each in names or ():
            known(option, each, devices_of(source.site))
    wishes = Wishes(frozenset(cause or ()), frozenset(only or ()), frozenset(never or ()), allow_loss, at_most)
    found = mend(source.site, shipped_costs(), wishes)
    on_devices = _on_devices(source.site, cause or (), source.file)
    after = mended_text(source, text, found.plan) if found.plan else text
    written = writes and found.plan is not None
    if written:
        rewrite(path, text, after)
    difference = patch(text, after, source.file)
    name = source.file if written else ""
    entered = _entered(source.site, found.plan) if found.plan else ()
    finish(
        lambda: mend_result(source.site, found, entered, on_devices, difference, written, source.line),
        lambda: mend_view(source.site, found, entered, on_devices, difference, name, source.file, source.line),
        form,
    )
    if on_devices:
        raise typer.Exit(BROKEN)
    raise typer.Exit(CANNOT_TELL if found.verdict == "unknown" else KEPT if written or found.kept else BROKEN)


def _entered(site: Site, plan: Plan) -> tuple[Sheet, ...]:
    """What the plan changes on the pages of the devices."""
    before, after = (sheets_of(judge(each), "", {}, {}) for each in (site, changed(site, *plan.changes)))
    return change_pages(before, after)


def _on_devices(site: Site, kinds: Sequence[str], file: str) -> tuple[Fault, ...]:
    """Where faults of these kinds may stand. Raises BadParameter where nothing of that kind could be wrong here, or
    where the file itself is no measure for its devices."""
    verdict = judge(site)
    in_file = {each.kind for each in verdict.findings}
    of_devices = [each for each in kinds if each in get_args(FaultKind) and each not in in_file]
    broken = verdict.verdict == "broken"
    if of_devices and broken:
        raise typer.BadParameter(
            f"--cause {of_devices[0]} is cured on a device, to match {file}, which breaks promises itself: "
            f"first {command_line('mend', file)}"
        )
    found = () if broken else undone(site, kinds, shipped_knowledge().wording)
    missing = [each for each in of_devices if each not in {fault.kind for fault in found}]
    if missing:
        raise typer.BadParameter(f"--cause {missing[0]}: nothing of {file} can have that")
    return found
