"""Everything that a rehearsal needs before a lab is built: files, accounts, servers, trials."""

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from ..core.forecast import Forecast
from ..core.ports import PortSet
from ..core.rehearsed import Rehearsed
from ..core.site import Client
from ..core.topology import Topology
from .daemon import cannot, daemon
from .errands import Errand, Serve, ServeSsh, Start
from .kernel import search_path
from .rehearsal import Lab, News, Rehearsal, Servers
from .retrace import retraced
from .self_signed import write_self_signed
from .ssh_daemon import ssh_daemon
from .trials import Trial, Trust, player_of, scaled, served_services, setups, ssh_setups, trials, typed_names

OTHER = "its port is tried, not what is spoken there"


@dataclass(frozen=True)
class Able:
    """What a lab can do: read FTP control connections as helpers do, forget quiet connections,
    and open ports from this one on."""

    helps: bool
    forgets: bool
    lowest_port: int = 1


@dataclass(frozen=True)
class Prepared:
    """A site ready to be rehearsed. By the index of the promise, ``reasons`` tell what cannot be
    rehearsed, and ``spared`` what the daemon is not asked to do."""

    topology: Topology
    folder: Path
    forecasts: tuple[Forecast, ...]
    strangers: tuple[Client, ...]
    trials: tuple[Trial, ...]
    servers: Servers
    reasons: Mapping[int, str]
    spared: Mapping[int, str]

    def rehearsed(self, lab: Lab, news: News) -> list[Rehearsed]:
        """Every promise observed in the lab and held against its forecast."""
        wanted = [each for each in self.trials if each.index not in self.reasons]
        seen = Rehearsal(lab, self.topology, wanted, self.servers, news).observed(frozenset(self.spared))
        news("")
        others = (
            i
            for i, each in enumerate(self.forecasts)
            if each.service.protocol == "other" and each.promise.holds == "works"
        )
        said = dict.fromkeys(others, OTHER)
        said |= {**self.spared, **self.reasons}
        results = [Rehearsed(each, seen.get(i), said.get(i, "")) for i, each in enumerate(self.forecasts)]
        return [
            replace(each, sightings=retraced(lab, self.topology, each, trial)) if each.agree is False else each
            for each, trial in zip(results, self.trials, strict=True)
        ]


def prepared(
    topology: Topology, forecasts: Sequence[Forecast], folder: Path, with_daemon: bool, able: Able
) -> Prepared:
    """Write certificates and account folders into ``folder``, for a lab that is ``able`` to so much."""
    trust = _trust(topology, folder)
    found = tuple(trials(topology, forecasts, folder, trust))
    for trial in found:
        if trial.guest is not None:
            trial.guest.folder.mkdir()
    daemons = tuple(_daemons(topology, found, folder, trust)) if with_daemon else ()
    ftp = [each for each in found if each.guest and each.forecast.service.protocol == "ftp"]
    spared = {each.index: cannot(topology, each.forecast) for each in ftp} if with_daemon else {}
    return Prepared(
        topology,
        folder,
        tuple(forecasts),
        tuple(_strangers(topology, forecasts)),
        found,
        Servers(tuple(_stand_ins(topology, found, trust)), daemons),
        _said({i: _reason(topology, each, able) for i, each in enumerate(forecasts)}),
        _said(spared),
    )


def _said(reasons: Mapping[int, str]) -> dict[int, str]:
    return {i: each for i, each in reasons.items() if each}


def _strangers(topology: Topology, forecasts: Sequence[Forecast]) -> Iterator[Client]:
    for stand in {each.stand.name: each.stand for each in forecasts}.values():
        if not stand.spec.address:
            yield player_of(topology, forecasts, stand)


def _trust(topology: Topology, folder: Path) -> Trust:
    trust = Trust()
    if any(each.tls.mode != "none" for each in topology.site.services):
        trusted, served = write_self_signed(folder, *typed_names(topology))
        trust = dataclasses.replace(trust, trusted=trusted, served=served)
    if any(each.protocol == "sftp" for each in topology.site.services):
        from .ssh_stand_in import write_host_key  # SSH loads slowly

        host_key, fingerprint = write_host_key(folder)
        trust = dataclasses.replace(trust, host_key=host_key, fingerprint=fingerprint)
    return trust


def _stand_ins(topology: Topology, found: Sequence[Trial], trust: Trust) -> Iterator[Errand]:
    if ftp := setups(topology, found, trust.served):
        yield Serve(ftp)
    if ssh := ssh_setups(topology, found, trust.host_key):
        yield ServeSsh(ssh)


def _daemons(topology: Topology, found: Sequence[Trial], folder: Path, trust: Trust) -> Iterator[Start]:
    for i, (service, guests) in enumerate(served_services(found, "ftp")):
        yield daemon(topology, service, guests, folder / f"daemon-{i}", trust.served)
    for i, (service, guests) in enumerate(served_services(found, "sftp")):
        if trust.host_key is not None:
            yield ssh_daemon(topology, service, guests, folder / f"ssh-daemon-{i}", trust.host_key, search_path())


def _reason(topology: Topology, forecast: Forecast, able: Able) -> str:
    """Why a lab cannot show what becomes of a promise; empty where it can."""
    if forecast.service.protocol == "other" or forecast.promise.holds == "shut":
        return ""
    chain = topology.chain(forecast.stand.network, topology.server.network) or ()
    helpers = [each.device.name for each in chain if each.device.spec.ftp_helper]
    if helpers and not able.helps and forecast.service.tls.mode == "none":
        return f"{helpers[0]} reads FTP control connections, and this lab has nothing that does"
    passive = forecast.service.passive if forecast.promise.mode == "passive" else None
    if passive is not None and passive.protocols != ("tcp",):
        return "data over another transport than TCP is not rehearsed"
    passive_ports = forecast.data.asked if forecast.data is not None else PortSet()
    if passive_ports and passive_ports.lowest < able.lowest_port:
        return f"data ports below {able.lowest_port} need a privilege on this machine"
    limits = [each.device.name for each in chain if each.device.spec.idle_timeout is not None]
    timed = forecast.data is not None and forecast.service.transfer_seconds is not None
    if limits and timed and not able.forgets:
        return f"{limits[0]} forgets quiet connections, and nothing in this lab does"
    if limits and timed and forecast.predicted != "partly" and scaled(topology, forecast) is None:
        return f"a typical transfer takes about as long as {limits[0]} remembers: too close to tell apart in a lab"
    return ""
