"""Which visits a site asks for from here: every promise of the client that stands here."""

from dataclasses import dataclass, replace
from typing import Literal

import typer

from ..core.model.rights import account_of, effective_rights, rights_in
from ..core.model.site import Client, Mode, Promise, Server, Service, Site
from ..core.network.topology import Topology
from ..core.observed.climb import Climb
from ..core.predict.endpoints import stand_of, targets
from ..core.values.ports import PortSet
from ..live.common.covered import covered
from ..live.common.ladder_runner import Progress
from ..live.common.plan_of import plan_of
from ..live.common.secret import Secret
from ..live.common.visit_plan import FolderLook, Looks, VisitPlan
from ..live.ftp.visit import knock, visit
from ..live.vantage.base import Vantage
from ..live.vantage.local import HERE
from .arguments.site_names import known

Act = Literal["session", "ssh", "knock"]


@dataclass(frozen=True, slots=True)
class Wanted:
    """One visit, and the promise that it stands for."""

    plan: VisitPlan
    act: Act = "session"
    holds: Literal["works", "shut"] = "works"

    async def run(self, progress: Progress) -> Climb:
        """A whole session, or only a look whether the port answers."""
        return covered(await self._run(progress), self.plan.credentials.password)

    async def _run(self, progress: Progress) -> Climb:
        if self.act == "knock":
            return await knock(self.plan, self.holds)
        if self.act == "session":
            return await visit(self.plan, progress)
        from ..live.ssh.visit import ssh_visit  # SSH loads slowly

        return await ssh_visit(self.plan, progress)


async def visits_of(
    site: Site, client_name: str, service_name: str, mode: Mode | None, place: Vantage = HERE
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


async def client_at(site: Site, name: str, place: Vantage = HERE) -> Client:
    """The client of this name; without one, the only one there is, or the only one that stands there."""
    if name:
        known("--client", name, [each.name for each in site.clients])
        return next(each for each in site.clients if each.name == name)
    standing = [each for each in site.clients if await _stands(each, site.server, place)]
    candidates = standing if len(site.clients) > 1 else list(site.clients)
    if len(candidates) != 1:
        where = "here" if place is HERE else f"at {place.name}"
        many = ", ".join(each.name for each in standing)
        found = f"{many} stand {where}" if standing else f"none has an address of the machine {where}"
        names = ", ".join(each.name for each in site.clients) or "none"
        raise typer.BadParameter(f"--client is needed ({found}); this site has {names}")
    return candidates[0]


async def _stands(client: Client, server: Server, place: Vantage) -> bool:
    addresses = server.address if client.on_server else client.address
    return any([await place.holds(str(each)) for each in addresses.each])


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


def _plan(topology: Topology, client: Client, service: Service, mode: Mode) -> VisitPlan:
    """A session as a client of the site has it."""
    stand = stand_of(topology, client.name)
    addresses = targets(topology, stand)
    if not addresses:
        raise typer.BadParameter(f"the site file tells no address for {client.name} to reach")
    account = account_of(topology.site, client.name, service.name)
    user = account.name if account else "anonymous"
    plan = plan_of(topology, stand, client, service, mode, user, Secret(""))
    name = client.reaches.name if client.reaches and client.reaches.name else str(addresses[0])
    rights = effective_rights(topology.site, account) if account else None
    beside = account.folders if account else ()
    folders = tuple(FolderLook(each.shown_as, rights_in(topology.site, account, each)) for each in beside if account)
    return replace(
        plan,
        target=replace(plan.target, name=name, address=str(addresses[0])),
        security=replace(plan.security, host_key=service.host_key or ""),
        data=replace(
            plan.data,
            active_address=str(client.active_address) if client.active_address else None,
            planned=service.passive.ports if service.passive else PortSet(),
        ),
        looks=Looks(rights=rights, confined=account.confined if account else None, folders=folders),
    )
