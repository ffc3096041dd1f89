"""Everything that a rehearsal needs before a lab is built: files, accounts, servers, scenarios."""

import dataclasses
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import psutil
from msgspec.structs import replace

from ...core.model.site import Client
from ...core.network.topology import Topology
from ...core.observed.rehearsed import Rehearsed
from ...core.predict.endpoints import unpromised
from ...core.predict.forecast import Forecast
from ...core.predict.logins import refused_at_login
from ...core.values.ports import PortSet
from ..daemons.openssh import ssh_daemon
from ..daemons.proftpd import cannot, daemon
from ..servers.ssh_server import write_self_signed
from ..tasks.tasks import Serve, ServeSsh, Start, Task
from .rehearsal import Lab, News, Rehearsal, Servers, packet_trace
from .scenarios import (
    Scenario,
    Trust,
    patience_for,
    player_of,
    scaled,
    scenarios,
    served_services,
    setups,
    ssh_setups,
    typed_names,
)

OTHER = "its port is tried, not what is spoken there"


@dataclass(frozen=True)
class Able:
    """What a lab can do: read FTP control connections as helpers do, forget quiet connections,
    open ports from this one on, and let hosts find their own ways: by their routes, to themselves, and over lines
    of their own size."""

    helps: bool
    forgets: bool
    lowest_port: int = 1
    finds_ways: bool = True


@dataclass(frozen=True)
class Prepared:
    """A site ready to be rehearsed. By the index of the promise, ``reasons`` tell what cannot be
    rehearsed, and ``spared`` what the daemon is not asked to do."""

    topology: Topology
    folder: Path
    forecasts: tuple[Forecast, ...]
    strangers: tuple[Client, ...]
    scenarios: tuple[Scenario, ...]
    servers: Servers
    reasons: Mapping[int, str]
    spared: Mapping[int, str]

    def rehearsed(self, lab: Lab, news: News) -> list[Rehearsed]:
        """Every promise observed in the lab and held against its forecast."""
        wanted = [each for each in self.scenarios if each.index not in self.reasons]
        seen = Rehearsal(lab, self.topology, wanted, self.servers, news).observed(frozenset(self.spared))
        news("")
        others = (
            i
            for i, each in enumerate(self.forecasts)
            if each.service.protocol == "other" and each.promise.holds == "works"
        )
        reasons_left = dict.fromkeys(others, OTHER)
        reasons_left |= {**self.spared, **self.reasons}
        results = [Rehearsed(each, seen.get(i), reasons_left.get(i, "")) for i, each in enumerate(self.forecasts)]
        return [
            replace(each, observations=packet_trace(lab, self.topology, each, scenario))
            if each.agree is False
            else each
            for each, scenario in zip(results, self.scenarios, strict=True)
        ]


def prepared(
    topology: Topology, forecasts: Sequence[Forecast], folder: Path, with_daemon: bool, able: Able
) -> Prepared:
    """Write certificates and account folders into ``folder``, for a lab that is ``able`` to so much."""
    trust = _write_trust(topology, folder)
    found = tuple(scenarios(topology, forecasts, folder, trust, patience_for(_busy())))
    for scenario in found:
        if scenario.guest is not None:
            scenario.guest.folder.mkdir()
    daemons = tuple(_daemons(topology, found, folder, trust)) if with_daemon else ()
    ftp = [each for each in found if each.guest and each.forecast.service.protocol == "ftp"]
    spared = {each.index: cannot(topology, each.forecast) for each in ftp} if with_daemon else {}
    return Prepared(
        topology,
        folder,
        tuple(forecasts),
        tuple(_stand_in_clients(topology, forecasts)),
        found,
        Servers(tuple(_stand_ins(topology, found, trust)), daemons),
        _without_empty({i: _reason(topology, each, able) for i, each in enumerate(forecasts)}),
        _without_empty(spared),
    )


def _busy() -> float:
    """The load of this machine for each processor."""
    return psutil.getloadavg()[0] / (os.cpu_count() or 1)


def _without_empty(reasons: Mapping[int, str]) -> dict[int, str]:
    return {i: each for i, each in reasons.items() if each}


def _stand_in_clients(topology: Topology, forecasts: Sequence[Forecast]) -> Iterator[Client]:
    for position in {each.position.name: each.position for each in forecasts}.values():
        if not position.spec.address:
            yield player_of(topology, forecasts, position)


def _somebody_tries(topology: Topology, forecast: Forecast) -> bool:
    """Whether a service that ought to be shut is open to anybody whom a lab has."""
    network = forecast.position.network
    played = topology.strangers(network) | forecast.position.spec.address.as_set
    for each in unpromised(topology, forecast.position, forecast.service):
        played = played | topology.seen_on(each, network)
    opened = [each for each in forecast.control if each.outcome == "ok"]
    played = played - forecast.promise.except_for
    return not opened or any(each.asked.sources & played for each in opened)


def _write_trust(topology: Topology, folder: Path) -> Trust:
    trust = Trust()
    if any(each.tls.mode != "none" for each in topology.site.services):
        trusted, served = write_self_signed(folder, *typed_names(topology))
        trust = dataclasses.replace(trust, trusted=trusted, served=served)
    if any(each.protocol == "sftp" for each in topology.site.services):
        from ..servers.ssh_server import write_host_key  # SSH loads slowly

        host_key, fingerprint = write_host_key(folder)
        trust = dataclasses.replace(trust, host_key=host_key, fingerprint=fingerprint)
    return trust


def _stand_ins(topology: Topology, found: Sequence[Scenario], trust: Trust) -> Iterator[Task]:
    if ftp := setups(topology, found, trust.served):
        yield Serve(ftp)
    if ssh := ssh_setups(topology, found, trust.host_key):
        yield ServeSsh(ssh)


def _daemons(topology: Topology, found: Sequence[Scenario], folder: Path, trust: Trust) -> Iterator[Start]:
    for i, (service, guests) in enumerate(served_services(found, "ftp")):
        yield daemon(topology, service, guests, folder / f"daemon-{i}", trust.served)
    for i, (service, guests) in enumerate(served_services(found, "sftp")):
        if trust.host_key is not None:
            yield ssh_daemon(topology, service, guests, folder / f"ssh-daemon-{i}", trust.host_key)


def _reason(topology: Topology, forecast: Forecast, able: Able) -> str:
    """Why a lab cannot show what becomes of a promise; empty where it can."""
    if forecast.promise.holds == "shut":
        return "" if _somebody_tries(topology, forecast) else "it is open only to sources that no host of the site has"
    if forecast.service.protocol == "other":
        return ""
    if refused_at_login(topology.site, forecast.promise.client, forecast.service) is not None:
        return "who is let in at the login is the server's own: a lab has accounts of its own"
    passed = {step.at for each in forecast.control for step in each.steps}
    devices = [each for each in topology.devices if each.name in passed]
    helpers = [each.name for each in devices if each.spec.ftp_helper]
    helpers += [topology.server.name] if topology.site.server.ftp_helper else []
    client = forecast.position.spec
    narrow = next((each.name for each in devices if each.spec.too_big == "dropped"), "")
    sixth = next((each.name for each in devices if each.spec.nat64 is not None), "")
    if sixth and not able.finds_ways:
        return f"{sixth} turns IPv6 into IPv4, which the kernel lab alone does"
    if narrow and not able.finds_ways:
        return f"{narrow} has a line of another size, which the kernel lab alone has"
    if (client.on_server or topology.routed) and not able.finds_ways:
        what = "a client on the server host itself" if client.on_server else "what hosts know of routes"
        return f"{what} is rehearsed in the kernel lab alone"
    if helpers and not able.helps and not client.secures(forecast.service.tls):
        return f"{helpers[0]} reads FTP control connections, and this lab has nothing that does"
    passive = forecast.service.passive if forecast.promise.mode == "passive" else None
    if passive is not None and passive.protocols != ("tcp",):
        return "data over another transport than TCP is not rehearsed"
    passive_ports = forecast.data.asked if forecast.data is not None else PortSet()
    if passive_ports and passive_ports.lowest < able.lowest_port:
        return f"data ports below {able.lowest_port} need a privilege on this machine"
    limits = [each.name for each in devices if each.spec.idle_timeout is not None]
    timed = forecast.data is not None and forecast.service.transfer_seconds is not None
    if limits and timed and client.keeps_alive is not None:
        return (
            f"{client.name} keeps its control connection alive, and no lab does so for minutes that are seconds there"
        )
    if limits and timed and not able.forgets:
        return f"{limits[0]} forgets quiet connections, and nothing in this lab does"
    if limits and timed and forecast.predicted != "partly" and scaled(topology, forecast) is None:
        return f"a typical transfer takes about as long as {limits[0]} remembers: too close to tell apart in a lab"
    return ""
