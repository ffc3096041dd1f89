"""``lamp --phone``: a phone's browser sweeps the lit ports, and the terminal shows the same ledger beside it."""

import asyncio
import contextlib
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer
from rich.console import RenderableType

from ..core.model.problem import network_names
from ..core.model.site import INTERNET, Service
from ..core.network.topology import Topology
from ..core.observed.compared import LitFrom, Unlit, ports_of
from ..core.observed.phone import (
    PhonePlan,
    Standing,
    announced_elsewhere,
    expected,
    phone_ledger,
    phone_plan,
    phone_position,
    standing_of,
)
from ..core.predict.endpoints import position_of
from ..core.predict.forecast import ClientPosition
from ..core.values.addresses import UNKNOWN_TEXT, Address
from ..core.values.ports import PortSet
from ..formats.results.base import as_json, as_line
from ..formats.results.lamp import LampPhone, sweep_result
from ..formats.shipped import browser_ports, shipped_text
from ..formats.site.site_file import SiteFile
from ..formats.writing import write, writes
from ..live.lamp.listener import Lamp
from ..live.lamp.phone import DeskSetup, PhoneDesk, PhoneVisit
from ..views.lamp import sweeps_view
from ..views.phone import (
    invitation_view,
    knocks_view,
    nobody_view,
    nowhere_view,
    phone_page,
    sweeping_view,
    tls_view,
    visit_notes,
    why_command,
)
from .arguments import completion
from .arguments.options import Forced, Format, parsed_or_none
from .arguments.sites import known
from .ending import Redrawn, emit, show
from .exit_codes import BROKEN, CANNOT_TELL, KEPT

DRAW_SECONDS = 0.25
OPEN_SECONDS = 45.0
"""For somebody to take a phone, turn its Wi-Fi off and scan a code, before another port is proposed."""


@dataclass(frozen=True, slots=True)
class Phones:
    """Whether a phone is to test, and as whom."""

    phone: Annotated[bool, typer.Option("--phone", help="Show a code: a phone's browser tests the ports.")] = False
    client: Annotated[
        str,
        typer.Option(help="With --phone: the client whose place it takes; default: anybody on the internet.",
                     autocompletion=completion.own_clients),
    ] = ""  # fmt: skip
    at: Annotated[str, typer.Option(help="With --phone: the address that it dials, instead of the site's.")] = ""
    save: Annotated[
        Path | None, typer.Option(help="With --phone: save what phones have seen (JSON), for check --seen.")
    ] = None
    force: Forced = False


class Reception:
    """Phones received one after the other; ``code`` is how it went with the last."""

    def __init__(self, source: SiteFile, service: Service, phones: Phones, form: Format) -> None:
        self.source, self.service, self.phones, self.form = source, service, phones, form
        self.topology = Topology(source.site)
        self._at = parsed_or_none(Address, "--at", phones.at or None)
        self._saved = False
        self.code = CANNOT_TELL

    def plan(self, lit: PortSet, held: PortSet) -> PhonePlan:
        """What a phone is to try. Raises BadParameter where there is nothing."""
        position = position_of(self.topology, self.phones.client or INTERNET)
        found = phone_plan(self.topology, self.service, position, self._at, lit, held, browser_ports())
        if found is None:
            barred = lit & browser_ports()
            why = (
                f"no browser goes to {barred}, and nothing else is lit: light another port with --ports, or run "
                "visit --lamp outside" if barred and not lit - barred
                else f"the site file has no address at which {position.name} reaches it: give one with --at"
            )  # fmt: skip
            raise typer.BadParameter(f"--phone: {why}")
        if str(found.target) == UNKNOWN_TEXT:
            raise typer.BadParameter(f"{self.source.file} has a ? for the address to dial: put it in, or give --at")
        return found

    def standing(self, addresses: Iterable[str]) -> Standing:
        """Where whoever has these addresses stands; unknown where they do not agree."""
        found = {standing_of(self.topology, Address.parse(each)) for each in addresses}
        return found.pop() if len(found) == 1 else "unknown"

    async def receive(self, lamp: Lamp, ports: PortSet, unlit: Sequence[Unlit], ended: asyncio.Event) -> None:
        """Show the way to the page, and what each phone sees, until the lamp is put out."""
        held = ports_of(each.port for each in unlit if each.protocol == "tcp")
        plan = self.plan(ports - held, held)
        page = phone_page(shipped_text("phone.html.j2"), shipped_text("phone.css"), shipped_text("phone.js"), plan)
        setup = DeskSetup(plan, page.html.encode(), page.policy, lambda each: self.standing([each]), time.monotonic)
        desk = PhoneDesk(setup)
        lamp.receive(desk)
        beside = _Beside(self, plan, desk, ports - held)
        try:
            while not ended.is_set():
                beside.look()
                desk.changed.clear()
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(desk.changed.wait(), DRAW_SECONDS)
                await asyncio.sleep(DRAW_SECONDS if desk.busy else 0)  # a sweep is news all the time
        finally:
            beside.end()

    def save(self, places: Sequence[LitFrom]) -> None:
        """Keep what phones have seen by now, where that is wanted."""
        if self.phones.save is not None:
            result = as_json(sweep_result(places, self.source.line)).encode()
            write({self.phones.save: result}, self.phones.force or self._saved)
            self._saved = True


class _Beside:
    """What the terminal shows beside the phones: each look shows what is new."""

    def __init__(self, reception: Reception, plan: PhonePlan, desk: PhoneDesk, lit: PortSet) -> None:
        self._reception, self._plan, self._desk, self._lit = reception, plan, desk, lit
        self._in_text = reception.form is Format.text
        self._redrawn = Redrawn()
        self._shown, self._since, self._turn = "", time.monotonic(), 0
        self._visit: PhoneVisit | None = None
        self._knocks, self._hinted = 0, False
        self._kept: list[LitFrom] = []

    def look(self) -> None:
        """Show one thing that has happened since."""
        desk = self._desk
        desk.look_at_clock()
        if desk.busy:
            self._visit = desk.visits[-1]
            self._redrawn.draw(self._sweeping(self._visit))
        elif self._visit is not None:
            self._after(self._visit)
        elif desk.token != self._shown:
            self._shown = desk.token
            self._invite(0)
        elif desk.tls_from and not self._hinted:
            self._hint()
        elif desk.visits and desk.visits[-1].knocks > self._knocks == 0:
            self._knocked(desk.visits[-1])
        elif self._nobody_comes():
            self._invite(self._turn + 1)

    def end(self) -> None:
        """The lamp is put out."""
        if self._visit is not None:
            self._after(self._visit)
        if not self._desk.visits and self._in_text:
            show(nobody_view(self._plan))

    def _nobody_comes(self) -> bool:
        waited = time.monotonic() - self._since > OPEN_SECONDS
        return waited and not self._desk.asked_for_page and self._turn < len(self._plan.pages)

    def _invite(self, turn: int) -> None:
        """The page at one of its ports, or that it opened at none."""
        self._since, self._turn = time.monotonic(), turn
        plan, desk = self._plan, self._desk
        if self._in_text and turn < len(plan.pages):
            show(invitation_view(plan, desk.address_at(plan.pages[turn]), turn, bool(desk.visits)))
        elif self._in_text:
            show(nowhere_view(plan))
        elif turn == 0:
            addresses = tuple(map(desk.address_at, plan.pages))
            emit(as_line(LampPhone(addresses=addresses, ports=str(plan.ports), barred=str(plan.barred))))

    def _hint(self) -> None:
        self._hinted = True
        if self._in_text:
            page = self._plan.pages[min(self._turn, len(self._plan.pages) - 1)]
            show(tls_view(self._desk.tls_from, self._desk.address_at(page)))

    def _position(self, visit: PhoneVisit) -> ClientPosition:
        source = Address.parse(next(reversed(visit.addresses)))
        return phone_position(self._reception.topology, source, self._reception.phones.client)

    def _expected(self, visit: PhoneVisit) -> PortSet:
        plan, position = self._plan, self._position(visit)
        return expected(self._reception.topology, position, plan.target, plan.ports, self._lit).arrives

    def _sweeping(self, visit: PhoneVisit) -> list[RenderableType]:
        return sweeping_view(self._plan, self._desk.sweep_of(visit), self._expected(visit), list(visit.addresses))

    def _seen(self, visit: PhoneVisit) -> LitFrom:
        """What a visit has come to, beside what is predicted for where it came from."""
        position = self._position(visit)
        ledger = phone_ledger(self._reception.topology, self._reception.service, position)
        place = f"phone at {', '.join(visit.addresses)}"
        knocks = visit.knocks if self._plan.control in self._plan.barred else None
        sweeps = (self._desk.sweep_of(visit),)
        return LitFrom(place, position.name, self._expected(visit), ledger, sweeps, knocks=knocks)

    def _after(self, visit: PhoneVisit) -> None:
        """The end of a visit: kept, judged and shown."""
        self._redrawn.clear()
        self._visit, self._knocks = None, visit.knocks
        reception, seen = self._reception, self._seen(visit)
        standing = reception.standing(visit.addresses)
        self._kept.append(seen)
        reception.save(self._kept)
        arrives = KEPT if seen.all_arrive else BROKEN
        reception.code = arrives if standing == "outside" and visit.done else CANNOT_TELL
        if not self._in_text:
            emit(as_line(sweep_result([seen], reception.source.line)))
            return
        position = self._position(visit)
        elsewhere = announced_elsewhere(reception.topology, reception.service, position, self._plan.target)
        notes = visit_notes(self._plan, standing, ", ".join(visit.addresses), seen, visit.done, elsewhere)
        save = str(reception.phones.save) if reception.phones.save is not None else ""
        why = () if seen.all_arrive else why_command(reception.source.file, save)
        show(["", *sweeps_view(reception.service.name, [seen], reception.source.line), *notes, "", *why])

    def _knocked(self, visit: PhoneVisit) -> None:
        """A connection to the control port after the end of a visit: it is kept with that."""
        self._knocks = visit.knocks
        self._kept[-1] = seen = self._seen(visit)
        self._reception.save(self._kept)
        if self._in_text:
            show(knocks_view(self._plan, visit.knocks))
        else:
            emit(as_line(sweep_result([seen], self._reception.source.line)))


def reception_of(phones: Phones, source: SiteFile, service: Service, ports: PortSet, form: Format) -> Reception | None:
    """Who receives phones; None where none is expected. Raises BadParameter and BadInput."""
    if not phones.phone:
        given = {"--client": phones.client, "--at": phones.at, "--save": phones.save, "--force": phones.force}
        if names := [name for name, value in given.items() if value]:
            raise typer.BadParameter(f"{' and '.join(names)}: only with --phone, which is not given")
        return None
    if phones.force and phones.save is None:
        raise typer.BadParameter("--force: it goes with --save, which is not given")
    if phones.client:
        known("--client", phones.client, [*(each.name for each in source.site.clients), *network_names(source.site)])
    if phones.save is not None:
        writes(phones.save, phones.force)
    found = Reception(source, service, phones, form)
    found.plan(ports, PortSet())
    return found
