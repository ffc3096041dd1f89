"""``demo``: the whole story on shipped data, in a temporary folder, without network or privileges."""

import asyncio
import shutil
import tempfile
from importlib.resources import files
from pathlib import Path
from secrets import token_hex
from typing import Annotated

import typer
from rich.text import Text

from ..core.ladder import Climb
from ..core.site import Promise, Service
from ..core.topology import Topology
from ..core.verdict import Verdict, judge
from ..core.walk import walk_data
from ..files.problem import BadInput, InputProblem
from ..files.site_file import SiteFile, read_site
from ..lab.self_signed import write_self_signed
from ..lab.stand_in import LOOPBACK, Guest, StandIn, StandInSetup
from ..live.plan import Plan
from ..live.secret import Secret
from ..live.visit import visit
from ..views.check_view import check_body
from ..views.style import ACCENT, STRONG
from ..views.visit_view import visit_view
from ..views.walk_view import walk_view
from .output import show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
BEFORE, AFTER = "saltmarsh-before.site.yaml", "saltmarsh-after.site.yaml"
SHIPPED = (BEFORE, AFTER, "creek-carrier.site.yaml")
ACCOUNT = "station"


@app.command(epilog="Example: eager-lantern demo --keep saltmarsh")
def demo(
    keep: Annotated[
        Path | None, typer.Option(readable=False, help="Keep the shipped site files in this new folder.")
    ] = None,
) -> None:
    """Check a faulty site, check the mended one, and visit a real server on this machine.

    Everything happens in a temporary folder and on the loopback address.
    """
    with tempfile.TemporaryDirectory(prefix="eager-lantern-") as name:
        folder = _shipped(Path(name))
        _told("1. The site as it is this morning: uploads hang.")
        before, verdict = _checked(folder / BEFORE)
        _told("2. One of the failing connections, hop by hop.")
        _walked(before, verdict)
        _told("3. Two lines mended, nothing else touched.")
        after, verdict = _checked(folder / AFTER)
        _told("4. A real session with a stand-in server on this machine, set up as the mended site says.")
        climb = _visited(folder, after)
        show(visit_view(climb))
        if keep is not None:
            _keep(folder, keep)
    _told("Next")
    show(Text(f"  {each}", style=ACCENT) for each in _next(keep))
    raise typer.Exit(0 if verdict.verdict == "kept" and climb.observed == "works" else 1)


def _shipped(folder: Path) -> Path:
    for name in SHIPPED:
        shutil.copyfile(str(files("eager_lantern") / "data" / name), folder / name)
    return folder


def _told(text: str) -> None:
    show(["", Text(f"━━ {text}", style=STRONG), ""])


def _checked(path: Path) -> tuple[SiteFile, Verdict]:
    source = read_site(path)
    verdict = judge(source.site)
    show(check_body(verdict, source.line, path.name))
    return source, verdict


def _walked(source: SiteFile, verdict: Verdict) -> None:
    """The first failing data connection of the client whose range is forwarded in part."""
    partly = next(each for each in verdict.forecasts if each.predicted == "partly")
    journeys = walk_data(Topology(source.site), partly.promise, None, None)
    show(walk_view(journeys[0], source.line, Path(source.file).name))


def _visited(folder: Path, source: SiteFile) -> Climb:
    """Visit the stand-in as the first client that is promised something."""
    promise = source.site.promises[0]
    service = next(each for each in source.site.services if each.name == promise.service)
    trusted, served = write_self_signed(folder, service.tls.names[0])
    store = folder / "store"
    store.mkdir()
    password = token_hex(12)
    setup = StandInSetup(
        guests=(Guest(ACCOUNT, password, store),),
        passive_ports=service.passive.ports if service.passive else None,
        certificate=served,
    )
    with StandIn(setup) as server:
        return asyncio.run(visit(_plan(promise, service, server.port, trusted, Secret(password))))


def _plan(promise: Promise, service: Service, port: int, trusted: Path, password: Secret) -> Plan:
    return Plan(
        name=service.tls.names[0],
        address=LOOPBACK,
        port=port,
        user=ACCOUNT,
        password=password,
        security="explicit",
        trusts=trusted,
        client=promise.client,
        service=service.name,
    )


def _keep(folder: Path, keep: Path) -> None:
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
        "eager-lantern visit ftp.example         a real session with a real server, rung by rung",
    ]
