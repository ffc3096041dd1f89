"""``rehearse``: the site built in a lab, real sessions run, predicted beside observed."""

import os
import sys
from collections.abc import Sequence, Set
from pathlib import Path
from typing import Annotated

import typer

from ..core.model.problem import did_you_mean
from ..core.network.flow import Journey
from ..core.network.topology import Topology
from ..core.observed.rehearsed import Rehearsed
from ..core.predict.session import predict
from ..core.predict.walk import NoSuchWalk, walk_control, walk_data, walk_session
from ..formats.reading import bad_file
from ..formats.results.rehearse import rehearse_result
from ..formats.site.site_file import all_filled_in, find_site_file, read_site
from ..lab.daemons.openssh import missing_ssh_daemon
from ..lab.daemons.proftpd import missing_daemon
from ..lab.kernel.lab import LabMissing, missing_means
from ..lab.kernel.layout import TooLarge
from ..lab.loopback.lab import missing_loopback
from ..lab.rehearsal.rehearsal import Lab
from ..lab.rehearsal.setup import Prepared, prepared
from ..lab.tasks.tasks import Capture, Look, TaskFailed
from ..views.rehearse import rehearse_view
from ..views.walk import LineOf
from .arguments import completion
from .arguments.options import Format, SiteArgument, Written, example
from .ending import has_terminal
from .exit_codes import BROKEN, CANNOT_TELL, of_kept
from .finish import finish
from .labs import CALLED, LabKind, able, built, lab_folder, progress

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern rehearse saltmarsh.site.yaml", "--capture gauge-store=store.pcap"))
def rehearse(
    site: SiteArgument = None,
    lab: Annotated[
        LabKind, typer.Option(help="kernel: private network namespaces; loopback: relays on 127.0.0.0/8.")
    ] = LabKind.kernel,
    daemon: Annotated[
        bool, typer.Option("--daemon", help="Sessions against proftpd and sshd of this machine.")
    ] = False,
    keep_open: Annotated[
        str, typer.Option(help="Afterwards open a shell as this host or gateway.", autocompletion=completion.devices)
    ] = "",
    capture: Annotated[
        list[str] | None,
        typer.Option(
            help="NAME=FILE: write the packets of a host or gateway as pcap.", autocompletion=completion.captures
        ),
    ] = None,
    form: Written = Format.text,
) -> None:
    """Build the site in a lab and run real sessions.

    For every promise, on this machine; what is observed stands beside what check predicts.

    Needs no privileges and touches nothing outside its own namespaces. Exit code 0: every
    promise holds and was predicted so, 1: not, 2: bad input, 3: something is unknown.
    """
    source = read_site(find_site_file(site))
    all_filled_in(source, "in a lab every host has its own")
    topology = Topology(source.site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(source.site.promises)]
    _possible(lab, daemon, bool(keep_open or capture), {each.service.protocol for each in forecasts})
    with lab_folder() as folder:
        ready = prepared(topology, forecasts, folder, daemon, able(lab))
        names = _node_names(ready)
        if keep_open and keep_open not in names:
            raise typer.BadParameter(f"--keep-open: there is no “{keep_open}”; {did_you_mean(keep_open, names)}")
        if keep_open and not has_terminal():
            raise typer.BadParameter("--keep-open needs a terminal, and there is none")
        captures = [_capture(each, names) for each in capture or ()]
        try:
            with built(lab, ready) as running:
                running.do_all(captures)
                results = ready.rehearsed(running, progress())
                _emit_results(results, source.site.site, lab, topology, source.line, source.file, form)
                if keep_open:
                    _look(running, keep_open)
        except TooLarge as error:
            raise bad_file(
                source.file, f"found a lab that is too large for this machine ({error}); expected a smaller site"
            ) from None
        except (LabMissing, TaskFailed) as error:
            print(f"eager-lantern: {error}", file=sys.stderr)
            raise typer.Exit(CANNOT_TELL) from None
    raise typer.Exit(_rehearsal_code(results))


def _possible(lab: LabKind, daemon: bool, looks: bool, protocols: Set[str]) -> None:
    """Say which means is missing, and what would do instead."""
    if lab is LabKind.loopback and (daemon or looks):
        raise typer.BadParameter("--daemon, --keep-open and --capture belong to the kernel lab")
    lack = missing_means() if lab is LabKind.kernel else missing_loopback()
    if lack:
        other = "; --lab loopback needs nothing" if lab is LabKind.kernel else ""
        print(f"eager-lantern: no {lab.value} lab: {lack}{other}", file=sys.stderr)
    elif daemon and (lack := _missing_daemon(protocols)):
        print(f"eager-lantern: {lack}; without --daemon the stand-in serves", file=sys.stderr)
    if lack:
        raise typer.Exit(CANNOT_TELL)


def _missing_daemon(protocols: Set[str]) -> str:
    lack = missing_daemon() if "ftp" in protocols else ""
    return lack or (missing_ssh_daemon() if "sftp" in protocols else "")


def _node_names(ready: Prepared) -> list[str]:
    site = ready.topology.site
    hosts = [site.server.name, *(each.name for each in (*site.clients, *ready.strangers))]
    return [*hosts, *(each.name for each in site.gateways)]


def _capture(text: str, names: Sequence[str]) -> tuple[str, Capture]:
    """What to capture where. Raises BadParameter with what would be right."""
    name, equals, path = text.partition("=")
    if not equals or not path:
        raise typer.BadParameter(f"--capture: write NAME=FILE, as {names[0]}={names[0]}.pcap")
    if name not in names:
        raise typer.BadParameter(f"--capture: there is no “{name}”; {did_you_mean(name, names)}")
    target = Path(path).absolute()
    if target.exists():
        raise bad_file(path, "found a file of that name; expected a new name")
    if not os.access(target.parent, os.W_OK):
        raise bad_file(path, f"found no folder {target.parent} to write to; expected one that is there")
    return name, Capture(target)


def _emit_results(
    results: list[Rehearsed], title: str, lab: LabKind, topology: Topology, line: LineOf, file: str, form: Format
) -> None:
    finish(
        lambda: rehearse_result(results, "kernel" if lab is LabKind.kernel else "loopback"),
        lambda: rehearse_view(results, title, CALLED[lab], [_journey(topology, each) for each in results], line, file),
        form,
    )


def _journey(topology: Topology, result: Rehearsed) -> Journey | None:
    """The predicted journey of the connection in which prediction and lab part."""
    if result.agree is not False or result.observed is None:
        return None
    forecast, groups = result.forecast, result.observed.groups
    data = bool(forecast.data is not None and groups)
    port = result.parted_port if data else None
    try:
        _, chosen, _ = walk_session(topology, forecast.position, forecast.service, forecast.promise.mode, port, data)
        if data:
            return walk_data(topology, forecast, chosen, None)[0]
        return walk_control(topology, forecast, chosen, None)[0]
    except NoSuchWalk:
        return None


def _look(lab: Lab, name: str) -> None:
    """A shell as a host of the lab; it ends with the shell."""
    print(f"A shell as {name}. The lab ends when you leave it.", file=sys.stderr)
    lab.do_all([(name, Look((os.environ.get("SHELL", "/bin/sh"),)))])


def _rehearsal_code(results: Sequence[Rehearsed]) -> int:
    if any(each.agree is False or each.kept is False for each in results):
        return BROKEN
    return of_kept(each.kept if each.agree else None for each in results)
