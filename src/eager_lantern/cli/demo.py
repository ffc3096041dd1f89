"""``demo``: the whole story on shipped data, in a temporary folder, without network or privileges."""

import os
import shutil
import tempfile
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace
from rich.text import Text

from ..core.compare.with_lab import Rehearsed
from ..core.diagnosis.diagnosis import diagnose
from ..core.diagnosis.wording import instruction
from ..core.mending.mend import mend
from ..core.model.site import Promise
from ..core.network.topology import Topology
from ..core.predict.forecast import Forecast
from ..core.predict.session import predict
from ..core.predict.walk import walk_data
from ..core.values.ports import PortSet
from ..core.verdict import Verdict, judge
from ..files.costs_file import shipped_costs
from ..files.knowledge_file import shipped_knowledge
from ..files.mended_file import mended_text, patch
from ..files.observations import sightings_of_rehearsal
from ..files.problem import BadInput, InputProblem
from ..files.results.rehearse import rehearse_result
from ..files.services import usual_names
from ..files.site_file import SiteFile, read_site
from ..lab.kernel.lab import missing_means
from ..lab.rehearsal.setup import prepared
from ..views.check_view import Shown, check_body
from ..views.diagnose_view import diagnose_view
from ..views.mend_view import plan_view
from ..views.rehearse_view import rehearse_body
from ..views.style import ACCENT, STRONG
from ..views.survey_view import router_view
from ..views.walk_view import walk_view
from .arguments.example import example
from .demo_router import asked_of_stand_in
from .exit_codes import of_kept
from .labs import CALLED, LabKind, able, built, lab_folder, progress
from .output import show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
BEFORE, AFTER = "saltmarsh-before.site.yaml", "saltmarsh-after.site.yaml"
MENDED = "saltmarsh-mended.site.yaml"
BY_HAND, FROM_ALL_OVER = 5, 12
"""How many data ports are tried."""
WATCHED = ("field-station", "institute")
SHIPPED = (BEFORE, AFTER, "creek-carrier.site.yaml")


@app.command(epilog=example("eager-lantern demo --keep saltmarsh"))
def demo(
    keep: Annotated[
        Path | None, typer.Option(readable=False, help="Keep the shipped site files in this new folder.")
    ] = None,
) -> None:
    """Tell the whole story on shipped data.

    A faulty site checked, its router asked, its symptoms explained, mended, checked again, and rehearsed with real
    sessions.

    Everything happens in a temporary folder, in private network namespaces where this system
    allows them, else on loopback addresses.
    """
    if keep is not None:
        _refuse_taken(keep)
    with lab_folder() as folder:
        _shipped(folder)
        _told("1. The site as it is this morning: uploads hang.")
        before, verdict = _checked(folder / BEFORE)
        _told("2. Is the file true? What its router says, and who sees it from outside (stand-ins).")
        _surveyed(before)
        _told("3. One of the failing connections, hop by hop.")
        _walked(before, verdict)
        _told("4. What two places see of it, held against the site as it was meant: which faults explain it?")
        _diagnosed(folder, before)
        _told("5. The cheapest changes that keep every promise, made in the file.")
        _mended(folder, before)
        _told("6. The mended site, checked again.")
        after, verdict = _checked(folder / MENDED)
        _told("7. The mended site rehearsed: real sessions over data ports from all over the range.")
        results = _rehearsed(folder, after, after.site.promises)
        show(rehearse_body(results, CALLED[_lab()], [None] * len(results), after.line))
        if keep is not None:
            _keep(keep)
    _told("Next")
    show(Text(f"  {each}", style=ACCENT) for each in _next(keep))
    raise typer.Exit(of_kept(bool(verdict.verdict == "kept" and each.agree and each.kept) for each in results))


def _shipped(folder: Path) -> None:
    for name in SHIPPED:
        shutil.copyfile(str(files("eager_lantern") / "data" / name), folder / name)


def _told(text: str) -> None:
    show(["", Text(f"━━ {text}", style=STRONG), ""])


def _checked(path: Path) -> tuple[SiteFile, Verdict]:
    source = read_site(path)
    verdict = judge(source.site)
    show(check_body(verdict, Shown(path.name, source.line, usual_names)))
    return source, verdict


def _surveyed(source: SiteFile) -> None:
    """The router's own word beside the site file."""
    found = asked_of_stand_in(source.site.gateways[0])
    if found is None:
        show(["Another program has the ports of a router on this machine, so it is left out here."])
    else:
        show(router_view(found))


def _walked(source: SiteFile, verdict: Verdict) -> None:
    """The first failing data connection of the client whose range is forwarded in part."""
    partly = next(each for each in verdict.forecasts if each.predicted == "partly")
    port = PortSet.single(partly.data.fails.lowest) if partly.data else PortSet()
    journeys = walk_data(Topology(source.site), partly, port, None)
    show(walk_view(journeys[0], source.line, Path(source.file).name))


def _diagnosed(folder: Path, faulty: SiteFile) -> None:
    """Sessions of two clients in a lab of the faulty site, explained by the site as it was meant."""
    meant = read_site(folder / AFTER)
    topology = Topology(faulty.site)
    watched = [(i, each) for i, each in enumerate(faulty.site.promises) if each.client in WATCHED]
    forecasts = [_at_few_ports(predict(topology, each, ("promises", i)), BY_HAND) for i, each in watched]
    results = rehearse_result(_in_lab(folder, topology, forecasts), _lab().value)
    seen = sightings_of_rehearsal(results, meant.site, Path("sessions of two clients"))
    found = diagnose(meant.site, seen, shipped_knowledge())
    told = instruction(meant.site, found.test, AFTER) if found.test else None
    show(diagnose_view(meant.site, found, told, AFTER, meant.line, whole=False))


def _at_few_ports(forecast: Forecast, count: int) -> Forecast:
    """The same with so many of the data ports alone, from all over the range."""
    data = forecast.data
    if data is None:
        return forecast
    tried = PortSet.of(*((port, port) for port in list(data.asked)[:: max(1, len(data.asked) // count)]))
    few = replace(data, asked=tried, works=data.works & tried, fails=data.fails & tried, unknown=data.unknown & tried)
    return replace(forecast, data=few)


def _mended(folder: Path, faulty: SiteFile) -> None:
    """The plan, and the file as it is with it."""
    found = mend(faulty.site, shipped_costs())
    assert found.plan is not None
    before = (folder / BEFORE).read_text(encoding="utf-8")
    after = mended_text(faulty, before, found.plan)
    (folder / MENDED).write_text(after, encoding="utf-8")
    show(plan_view(faulty.site, found.plan, patch(before, after, BEFORE), faulty.line))


def _lab() -> LabKind:
    """The best lab that this machine allows."""
    return LabKind.loopback if missing_means() else LabKind.kernel


def _rehearsed(folder: Path, source: SiteFile, promises: Sequence[Promise]) -> list[Rehearsed]:
    """Promises of a site with real sessions in a lab."""
    topology = Topology(source.site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(promises)]
    return _in_lab(folder, topology, [_at_few_ports(each, FROM_ALL_OVER) for each in forecasts])


def _in_lab(folder: Path, topology: Topology, forecasts: Sequence[Forecast]) -> list[Rehearsed]:
    lab = _lab()
    with tempfile.TemporaryDirectory(dir=folder) as store:
        ready = prepared(topology, forecasts, Path(store), with_daemon=False, able=able(lab))
        with built(lab, ready) as stands:
            return ready.rehearsed(stands, progress())


def _refuse_taken(keep: Path) -> None:
    """Raises BadInput where the folder cannot be made, before all that is worth keeping in it is done."""
    if os.path.lexists(keep):
        raise BadInput(str(keep), InputProblem(0, "exists already; name a new folder"))
    if not keep.parent.is_dir():
        raise BadInput(str(keep), InputProblem(0, f"cannot be made: there is no folder {keep.parent}"))
    if not os.access(keep.parent, os.W_OK | os.X_OK):
        raise BadInput(str(keep), InputProblem(0, f"cannot be made: nothing may be written to {keep.parent}"))


def _keep(keep: Path) -> None:
    try:
        keep.mkdir()
        _shipped(keep)
    except FileExistsError:
        raise BadInput(str(keep), InputProblem(0, "exists already; name a new folder")) from None
    except OSError as error:
        raise BadInput(str(keep), InputProblem(0, f"cannot be made: {error.strerror}")) from None


def _next(keep: Path | None) -> list[str]:
    if keep is None:
        return ["eager-lantern demo --keep saltmarsh     keeps the site files to play with"]
    return [
        f"eager-lantern check {keep}/{BEFORE}",
        f"eager-lantern walk {keep}/{BEFORE} --client institute --rung data",
        f"eager-lantern mend {keep}/{BEFORE}",
        f"eager-lantern rehearse {keep}/{AFTER}     --keep-open NAME to look around",
        "eager-lantern visit ftp.example         a real session with a real server, rung by rung",
    ]
