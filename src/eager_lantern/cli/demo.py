"""``demo``: the whole story on shipped data, in a temporary folder, without network or privileges."""

import asyncio
import os
import shutil
import sys
import tempfile
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace
from rich.text import Text

from ..core.diagnosis.diagnosis import diagnose
from ..core.diagnosis.wording import instruction
from ..core.mending.mend import mend
from ..core.model.site import Gateway, Promise
from ..core.network.topology import Topology
from ..core.observed.rehearsed import Rehearsed
from ..core.observed.survey import MappingSeen, Survey, SurveyedHost
from ..core.predict.forecast import Forecast
from ..core.predict.session import predict
from ..core.predict.walk import walk_data
from ..core.values.addresses import Address
from ..core.values.ports import PortSet
from ..core.verdict import Verdict, judge
from ..formats.reading import bad_file
from ..formats.results.observations import observations_of_rehearsal
from ..formats.results.rehearse import rehearse_result
from ..formats.shipped import usual_names
from ..formats.site.edits import mended_text, patch
from ..formats.site.site_file import SiteFile, read_site
from ..formats.weights import shipped_costs, shipped_knowledge
from ..lab.kernel.lab import missing_means
from ..lab.rehearsal.setup import prepared
from ..lab.servers.router import RouterSetup, StandInRouter, StandInStun
from ..live.survey.host import Learning
from ..live.survey.survey import SurveyPlan, outside_of_host
from ..live.vantage.local import HERE
from ..views.check import Shown, check_body
from ..views.diagnose import diagnose_view
from ..views.mend import plan_view
from ..views.rehearse import rehearse_body
from ..views.screen import ACCENT, STRONG
from ..views.survey import router_view
from ..views.walk import walk_view
from ..wire.ftp import Endpoint
from .arguments.options import example
from .ending import show
from .exit_codes import of_kept
from .labs import CALLED, LabKind, able, built, lab_folder, progress

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
        _show_chapter("1. The site as it is this morning: uploads hang.")
        before, verdict = _show_check(folder / BEFORE)
        _show_chapter("2. Does the file match reality? Its router and a server outside are asked (stand-ins).")
        _show_survey(before)
        _show_chapter("3. One of the failing connections, hop by hop.")
        _walked(before, verdict)
        _show_chapter("4. What two places see of it, held against the site as it was meant: which faults explain it?")
        _diagnosed(folder, before)
        _show_chapter("5. The cheapest changes that keep every promise, made in the file.")
        _mended(folder, before)
        _show_chapter("6. The mended site, checked again.")
        after, verdict = _show_check(folder / MENDED)
        _show_chapter("7. The mended site rehearsed: real sessions over data ports from all over the range.")
        results = _rehearse(folder, after, after.site.promises)
        show(rehearse_body(results, CALLED[_lab()], [None] * len(results), after.line))
        if keep is not None:
            _keep(keep)
    _show_chapter("Next")
    show(Text(f"  {each}", style=ACCENT) for each in _next_steps(keep))
    raise typer.Exit(of_kept(bool(verdict.verdict == "kept" and each.agree and each.kept) for each in results))


def _shipped(folder: Path) -> None:
    for name in SHIPPED:
        shutil.copyfile(str(files("eager_lantern") / "data" / name), folder / name)


def _show_chapter(text: str) -> None:
    show(["", Text(f"━━ {text}", style=STRONG), ""])


def _show_check(path: Path) -> tuple[SiteFile, Verdict]:
    source = read_site(path)
    verdict = judge(source.site)
    show(check_body(verdict, Shown(path.name, source.line, usual_names)))
    return source, verdict


def _show_survey(source: SiteFile) -> None:
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
    seen = observations_of_rehearsal(results, meant.site, Path("sessions of two clients"))
    found = diagnose(meant.site, seen, shipped_knowledge())
    next_test = instruction(meant.site, found.test, AFTER) if found.test else None
    show(diagnose_view(meant.site, found, next_test, AFTER, meant.line, whole=False))


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
    show(plan_view(faulty.site, found.plan, (), patch(before, after, BEFORE), faulty.line))


def _lab() -> LabKind:
    """The best lab that this machine allows."""
    return LabKind.loopback if missing_means() else LabKind.kernel


def _rehearse(folder: Path, source: SiteFile, promises: Sequence[Promise]) -> list[Rehearsed]:
    """Promises of a site with real sessions in a lab."""
    topology = Topology(source.site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(promises)]
    return _in_lab(folder, topology, [_at_few_ports(each, FROM_ALL_OVER) for each in forecasts])


def _in_lab(folder: Path, topology: Topology, forecasts: Sequence[Forecast]) -> list[Rehearsed]:
    lab = _lab()
    with tempfile.TemporaryDirectory(dir=folder) as store:
        ready = prepared(topology, forecasts, Path(store), with_daemon=False, able=able(lab))
        with built(lab, ready) as lab_running:
            return ready.rehearsed(lab_running, progress())


def _refuse_taken(keep: Path) -> None:
    """Raises BadInput where the folder cannot be made, before all that is worth keeping in it is done."""
    if os.path.lexists(keep):
        raise bad_file(keep, "found a folder of that name; expected a new name")
    if not keep.parent.is_dir():
        raise bad_file(keep, f"found no folder {keep.parent}; expected one that is there")
    if not os.access(keep.parent, os.W_OK | os.X_OK):
        raise bad_file(keep, f"found that you may not write to {keep.parent}; expected permission")


def _keep(keep: Path) -> None:
    try:
        keep.mkdir()
        _shipped(keep)
    except FileExistsError:
        raise bad_file(keep, "found a folder of that name; expected a new name") from None
    except OSError as error:
        raise bad_file(keep, f"found that it cannot be made ({error.strerror}); expected a new folder") from None


def _next_steps(keep: Path | None) -> list[str]:
    if keep is None:
        return ["eager-lantern demo --keep saltmarsh     keeps the site files to play with"]
    return [
        f"eager-lantern check {keep}/{BEFORE}",
        f"eager-lantern walk {keep}/{BEFORE} --client institute --rung data",
        f"eager-lantern mend {keep}/{BEFORE}",
        f"eager-lantern rehearse {keep}/{AFTER}     --keep-open NAME to look around",
        "eager-lantern visit ftp.example         a real session with a real server, rung by rung",
    ]


def asked_of_stand_in(gateway: Gateway) -> Survey | None:
    """What a survey learns of a router that has these forwards and this outside address; None where this machine has
    no room for one."""
    try:
        return asyncio.run(_ask_router(gateway))
    except OSError:
        return None


async def _ask_router(gateway: Gateway) -> Survey:
    address = _free_address()
    outside = gateway.outside.address.each[0]
    mappings = tuple(
        MappingSeen(each.protocol, port, each.to, port + each.offset, "", each.name, each.enabled)
        for each in gateway.forwards
        for port in each.ports
    )
    async with StandInRouter(RouterSetup(address, outside, mappings)), StandInStun(address, 0, outside) as outsider:
        wanted = SurveyPlan(router=Address.parse(address), stun=(Endpoint(address, outsider.port),))
        return await outside_of_host(HERE, SurveyedHost("here", "", "other"), wanted, (), lambda line: None, Learning())


def _free_address() -> str:
    """On Linux all of 127.0.0.0/8 is the host's, so that two of them meet nowhere."""
    number = os.getpid() % 65_000
    return f"127.61.{number // 256}.{number % 254 + 1}" if sys.platform.startswith("linux") else "127.0.0.1"
