"""Which visits a site asks for from here: every promise of the client that stands here."""

from dataclasses import dataclass
from typing import Literal

import typer

from ..core.ladder import Climb
from ..core.ports import PortSet
from ..core.rights import effective_rights
from ..core.session import stand_of, targets, typed_port
from ..core.site import Account, Client, Mode, Promise, Service, Site
from ..core.topology import Topology
from ..live.climber import Progress
from ..live.covered import covered
from ..live.here import HERE
from ..live.plan import Plan
from ..live.secret import Secret
from ..live.standpoint import Standpoint
from ..live.visit import knock, visit
from .named import known

Act = Literal["session", "ssh", "knock"]


@dataclass(frozen=True, slots=True)
class Wanted:
    """One visit, and the promise that it stands for."""

    plan: Plan
    act: Act = "session"
    holds: Literal["works", "shut"] = "works"

    async def run(self, progress: Progress) -> Climb:
        """A whole session, or only a look whether the port answers."""
        return covered(await self._run(progress), self.plan.password)

    async def _run(self, progress: Progress) -> Climb:
        if self.act == "knock":
            return await knock(self.plan, self.holds)
        if self.act == "session":
            return await visit(self.plan, progress)
        from ..live.ssh_visit import ssh_visit  # SSH loads slowly

        return await ssh_visit(self.plan, progress)


async def visits_of(
    site: Site, client_name: str, service_name: str, mode: Mode | None, place: Standpoint = HERE
) -> list[Wanted]:
    """Every promise of a client, or of the client that stands at a place, as far as the names given narrow it.

    A client without a promise is visited in its first mode. Raises BadParameter.
    """
    client = await client_at(site, client_name, place)
    if service_name:
        known("--service", service_name, [each.name for each in site.services])
    promises = [each for each in site.promises if each.client == client.name]
    chosen = [each for each in promises if _fits(each, service_name, mode)]
    if not chosen:
        chosen = [_unpromised(site, client, service_name, mode)]
    topology = Topology(site)
    return [_wanted(topology, client, each) for each in chosen]


def _fits(promise: Promise, service: str, mode: Mode | None) -> bool:
    return service in ("", promise.service) and mode in (None, promise.mode)


async def client_at(site: Site, name: str, place: Standpoint = HERE) -> Client:
    """The client of this name; without one, the only one there is, or the only one that stands there."""
    if name:
        known("--client", name, [each.name for each in site.clients])
        return next(each for each in site.clients if each.name == name)
    standing = [each for each in site.clients if await _stands(each, place)]
    candidates = standing if len(site.clients) > 1 else list(site.clients)
    if len(candidates) != 1:
        where = "here" if place is HERE else f"at {place.name}"
        many = ", ".join(each.name for each in standing)
        found = f"{many} stand {where}" if standing else f"none has an address of the machine {where}"
        names = ", ".join(each.name for each in site.clients) or "none"
        raise typer.BadParameter(f"--client is needed ({found}); this site has {names}")
    return candidates[0]


async def _stands(client: Client, place: Standpoint) -> bool:
    return any([await place.holds(str(each)) for each in client.address.each])


def _unpromised(site: Site, client: Client, service: str, mode: Mode | None) -> Promise:
    transfers = [each.name for each in site.services if each.protocol != "other"]
    if not service and len(transfers) != 1:
        raise typer.BadParameter(f"--service is needed; this site has {', '.join(transfers) or 'none'}")
    return Promise(client=client.name, service=service or transfers[0], mode=mode or client.modes[0])


def _wanted(topology: Topology, client: Client, promise: Promise) -> Wanted:
    service = next(each for each in topology.site.services if each.name == promise.service)
    plan = _plan(topology, client, service, promise.mode or "passive")
    acts: dict[str, Act] = {"ftp": "session", "sftp": "ssh", "other": "knock"}
    return Wanted(plan, acts[service.protocol] if promise.holds == "works" else "knock", promise.holds)


def _plan(topology: Topology, client: Client, service: Service, mode: Mode) -> Plan:
    """A session as a client of the site has it."""
    addresses = targets(topology, stand_of(topology, client.name))
    if not addresses:
        raise typer.BadParameter(f"the site file tells no address for {client.name} to reach")
    account = _account(topology.site, client, service)
    return Plan(
        name=client.reaches.name if client.reaches and client.reaches.name else str(addresses[0]),
        address=str(addresses[0]),
        port=typed_port(topology, stand_of(topology, client.name), service),
        user=account.name if account else "anonymous",
        password=Secret(""),
        security=service.tls.mode,
        protects_data=service.tls.protects_data,
        mode=mode,
        extended=client.uses_epsv,
        active_address=str(client.active_address) if client.active_address else None,
        active_ports=client.active_ports,
        rights=effective_rights(topology.site, account) if account else None,
        confined=account.confined if account else None,
        planned=service.passive.ports if service.passive else PortSet(),
        host_key=service.host_key or "",
        client=client.name,
        service=service.name,
    )


def _account(site: Site, client: Client, service: Service) -> Account | None:
    """The first account that the site gives this client on this service."""
    return next((each for each in site.accounts if each.service == service.name and client.name in each.clients), None)
