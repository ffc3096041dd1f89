"""Which visits a site asks for from here, with which passwords, and from which places."""

import asyncio
import sys
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass, replace
from typing import Any, Literal

import typer
from msgspec import structs

from ..core.model.site import (
    Client,
    CompleteClient,
    Mode,
    Promise,
    Server,
    Service,
    Site,
    account_of,
    complete,
    effective_rights,
    rights_in,
)
from ..core.network.topology import Topology
from ..core.observed.climb import Climb
from ..core.observed.compared import Outlook
from ..core.predict.endpoints import position_of, targets
from ..core.values.addresses import address_or_none
from ..core.values.outcomes import Rung
from ..core.values.ports import PortSet
from ..formats.shipped import shipped_advice
from ..live.common.ladder import Progress
from ..live.common.secret import VARIABLE, NoPassword, Secret, covered, password_for
from ..live.common.visit_plan import Credentials, FolderLook, LockoutGuard, Looks, VisitPlan, plan_of
from ..live.ftp.visit import probe_port, visit_ftp
from ..live.vantage.base import Vantage, place_called
from ..live.vantage.local import HERE
from ..wire.terminal_safe import printable
from .arguments.sites import known
from .ending import has_terminal

Act = Literal["session", "ssh", "knock"]


@dataclass(frozen=True, slots=True)
class WantedVisits:
    """One visit, and the promise that it stands for."""

    plan: VisitPlan
    act: Act = "session"
    holds: Literal["works", "shut"] = "works"

    async def run(self, progress: Progress) -> Climb:
        """A whole session, or only a look whether the port answers."""
        return covered(await self._run(progress), self.plan.credentials.password)

    async def _run(self, progress: Progress) -> Climb:
        if self.act == "knock":
            return await probe_port(self.plan, self.holds)
        if self.act == "session":
            return await visit_ftp(self.plan, progress)
        from ..live.ssh.visit import visit_ssh  # SSH loads slowly

        return await visit_ssh(self.plan, progress)


async def visits_of(
    site: Site, client_name: str, service_name: str, mode: Mode | None, place: Vantage = HERE
) -> list[WantedVisits]:
    """Every promise of a client, or of the client that stands at a place, as far as the names given narrow it.

    A client without a promise is visited in its first mode. Raises BadParameter.
    """
    client = await client_at(site, client_name, place)
    if service_name:
        known("--service", service_name, [each.name for each in site.services])
    promises = [each for each in site.promises if each.client == client.name]
    chosen = [each for each in promises if _is_wanted(each, service_name, mode)]
    if not chosen:
        chosen = [_unpromised(site, client, service_name, mode)]
    topology = Topology(site)
    stated = frozenset(map(str, targets(topology, position_of(topology, client.name))))
    return [await _as_looked_up(_wanted(topology, client, each), place, stated) for each in chosen]


LOOK_UP_SECONDS = 3.0


async def _as_looked_up(wanted: WantedVisits, place: Vantage, stated: frozenset[str]) -> WantedVisits:
    """The visit to where the name leads at the place that it is made from, as it does for a client there: a name that
    still has an old address there is found out. A name that leads nowhere is taken as the site file has it, with the
    addresses that are ``stated``."""
    target = wanted.plan.target
    if target.address is None or address_or_none(target.name) is not None:
        return wanted
    name = printable(target.name)
    try:
        address = await asyncio.wait_for(place.find(target.name, target.port), LOOK_UP_SECONDS)
    except (OSError, UnicodeError, TimeoutError):
        address, found = target.address, f"{name} has no address here; the site file's {target.address} is used"
    else:
        differs = f" here; the site file has {target.address}" if address not in stated else ""
        found = f"{name} is {address}{differs}"
    return replace(wanted, plan=replace(wanted.plan, target=replace(target, address=address, found=found)))


def _is_wanted(promise: Promise, service: str, mode: Mode | None) -> bool:
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
    return Promise(client=client.name, service=service or transfers[0], mode=mode or complete(site, client).modes[0])


def _wanted(topology: Topology, client: Client, promise: Promise) -> WantedVisits:
    service = next(each for each in topology.site.services if each.name == promise.service)
    plan = _plan_for_client(topology, complete(topology.site, client), service, promise.mode or "passive")
    acts: dict[str, Act] = {"ftp": "session", "sftp": "ssh", "other": "knock"}
    return WantedVisits(plan, acts[service.protocol] if promise.holds == "works" else "knock", promise.holds)


def _plan_for_client(topology: Topology, client: CompleteClient, service: Service, mode: Mode) -> VisitPlan:
    """A session as a client of the site has it."""
    position = position_of(topology, client.name)
    addresses = targets(topology, position)
    if not addresses:
        raise typer.BadParameter(f"the site file has no address for {client.name} to reach")
    account = account_of(topology.site, client.name, service.name)
    user = account.name if account else "anonymous"
    advice = shipped_advice().on_server() if client.on_server else shipped_advice()
    plan = replace(plan_of(topology, position, client, service, mode, user, Secret("")), advice=advice)
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


Login = tuple[Secret, LockoutGuard]
"""The password of an account, and who may try it."""
Options = dict[str, dict[str, Any]]
"""What was typed, for each part of a plan."""


def ready(
    wanted: WantedVisits, options: Options, place: Vantage, accounts: dict[str, Login], of_site: bool
) -> WantedVisits:
    """A visit with the options on top, and the password, which is asked for once an account. Raises BadParameter."""
    parts = {name: replace(getattr(wanted.plan, name), **values) for name, values in options.items()}
    plan = replace(wanted.plan, vantage=place, **parts)
    if wanted.act != "knock":
        if of_site:
            _typed_where_clear(wanted.act, plan, "mode" in options["security"])
        user = plan.credentials.user
        if user not in accounts:
            accounts[user] = _password(plan), LockoutGuard()
        plan = replace(plan, credentials=Credentials(user, *accounts[user]))
        if of_site:
            _proved(wanted.act, plan, "host_key" in options["security"])
            print(f"eager-lantern: {_whither(wanted.act, plan)}", file=sys.stderr)
    return replace(wanted, plan=plan)


def _typed_where_clear(act: Act, plan: VisitPlan, typed: bool) -> None:
    """A site file is perhaps somebody else's: that a password goes out in clear is for who types it to say."""
    if act == "session" and plan.security.mode == "none" and not typed:
        raise typer.BadParameter(
            f"the site file has no TLS for {plan.target.service}, and the password of {plan.credentials.user} would go "
            f"to {plan.target.address or plan.target.name} in clear: type --security none if that is meant"
        )


def _proved(act: Act, plan: VisitPlan, typed_key: bool) -> None:
    """A password that belongs to the name of a host goes only to who proves to be that host; an address or a host
    key that the site file itself names proves nothing."""
    if not plan.credentials.password.of_host:
        return
    target, key = plan.target, plan.security.host_key
    if act == "ssh" and not typed_key:
        raise typer.BadParameter(
            f"the password of {target.name} is from netrc, and only the site file vouches for this host key: "
            f"type --host-key {key or 'SHA256:…'} after comparing it, or give the password by {VARIABLE}"
        )
    if act == "session" and (plan.security.mode == "none" or plan.security.any_certificate):
        raise typer.BadParameter(
            f"the password of {target.name} is from netrc, and nothing proves that "
            f"{target.address or 'the server'} is it: use TLS with a certificate, or give the password by {VARIABLE}"
        )


def _whither(act: Act, plan: VisitPlan) -> str:
    """Where a password goes, and how it is protected."""
    there = f" ({plan.target.address})" if plan.target.address not in (None, plan.target.name) else ""
    if act == "ssh":
        how = "over SSH, if it shows the host key that is expected"
    elif plan.security.mode == "none":
        how = "IN CLEAR: everybody on the way can read it"
    else:
        good = (
            "with any certificate"
            if plan.security.any_certificate
            else f"if its certificate is good for {plan.target.name}"
        )
        how = f"under TLS, {good}"
    return f"the password of {plan.credentials.user} goes to {plan.target.name}{there}, port {plan.target.port}, {how}"


def _password(plan: VisitPlan) -> Secret:
    try:
        return password_for(plan.target.name, plan.credentials.user)
    except NoPassword as error:
        raise typer.BadParameter(str(error)) from None


Prepare = Callable[[Vantage], Awaitable[list[WantedVisits]]]
Tell = Callable[[str, Rung], None]


async def seen_from(names: Sequence[str], prepare: Prepare, tell: Tell) -> list[Outlook]:
    """The same visits from each place: one after the other in a place, all places at once."""
    async with AsyncExitStack() as opened:
        vantages = await reached(names, opened)
        # one after the other, since a password may be asked for
        wanted = [await prepare(each) if not isinstance(each, Outlook) else [] for each in vantages]
        return list(await asyncio.gather(*(_visited(*each, tell) for each in zip(vantages, wanted, strict=True))))


async def reached(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    """The places to stand, and what is known of those that cannot be reached."""
    return await (_one_by_one if has_terminal() else _open_all)(names, opened)


async def _open_all(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    return list(await asyncio.gather(*(_standpoint(name, opened) for name in names)))


async def _one_by_one(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    """What ssh asks about one place, a passphrase for example, is answered before the next one is tried."""
    return [await _standpoint(name, opened) for name in names]


async def _standpoint(name: str, opened: AsyncExitStack) -> Vantage | Outlook:
    """A place to stand, or what is known of one that cannot be reached."""
    if name == HERE.name:
        return HERE
    from ..live.vantage.far import FarVantage  # few visits need it
    from ..live.vantage.link import OutOfReach

    try:
        return await opened.enter_async_context(FarVantage(name))
    except OutOfReach as error:
        return Outlook(place_called(name), (), f"out of reach: {error}")


async def _visited(place: Vantage | Outlook, wanted: Sequence[WantedVisits], tell: Tell) -> Outlook:
    if isinstance(place, Outlook):
        return place
    climbs = [structs.replace(await each.run(lambda rung: tell(place.name, rung)), place=place.name) for each in wanted]
    return Outlook(place.name, tuple(climbs), round_trip_seconds=place.round_trip_seconds)
