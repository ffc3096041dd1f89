"""``lamp --phone``: a phone's browser sweeps the lit ports, and the terminal shows the same ledger beside it."""

import asyncio
import contextlib
import time
from collections.abc import Iterator, Sequence
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
    ExpectedPorts,
    PhonePlan,
    announced_elsewhere,
    expected,
    phone_ledger,
    phone_plan,
    phone_position,
    standing_of,
)
from ..core.predict.endpoints import position_of
from ..core.values.addresses import UNKNOWN_TEXT, Address, address_or_none
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
        self._source, self._service, self._phones, self._form = source, service, phones, form
        self._topology = Topology(source.site)
        self._at = parsed_or_none(Address, "--at", phones.at or None)
        self._kept: list[LitFrom] = []
        self._saved = False
        self.code = CANNOT_TELL

    def plan(self, lit: PortSet, held: PortSet) -> PhonePlan:
        """What a phone is to try. Raises BadParameter where there is nothing."""
        position = position_of(self._topology, self._phones.client or INTERNET)
        found = phone_plan(self._topology, self._service, position, self._at, lit, held, browser_ports())
        if found is None:
            barred = lit & browser_ports()
            why = (
                f"no browser goes to {barred}, and nothing else is lit: light another port with --ports, or run "
                "visit --lamp outside" if barred and not lit - barred
                else f"the site file has no address at which {position.name} reaches it: give one with --at"
            )  # fmt: skip
            raise typer.BadParameter(f"--phone: {why}")
        if str(found.target) == UNKNOWN_TEXT:
            raise typer.BadParameter(f"{self._source.file} has a ? for the address to dial: put it in, or give --at")
        return found

    async def receive(self, lamp: Lamp, ports: PortSet, unlit: Sequence[Unlit], ended: asyncio.Event) -> None:
        """Show the way to the page, and what each phone sees, until the lamp is put out."""
        held = ports_of(each.port for each in unlit if each.protocol == "tcp")
        lit = ports - held
        plan = self.plan(lit, held)
        page = phone_page(shipped_text("phone.html.j2"), shipped_text("phone.css"), shipped_text("phone.js"), plan)
        desk = PhoneDesk(
            DeskSetup(plan, page.html.encode(), page.policy,
                      lambda each: standing_of(self._topology, Address.parse(each)), time.monotonic)
        )  # fmt: skip
        lamp.receive(desk)
        redrawn, shown, since, turn = Redrawn(), "", time.monotonic(), 0
        visit: PhoneVisit | None = None
        knocks, hinted = 0, False
        try:
            while not ended.is_set():
                desk.look_at_clock()
                if desk.busy:
                    visit = desk.visits[-1]
                    redrawn.draw(self._while_it_sweeps(plan, desk, visit, lit))
                elif visit is not None:
                    redrawn.clear()
                    self._after(plan, desk, visit, lit)
                    visit, knocks = None, desk.visits[-1].knocks
                elif desk.token != shown:
                    shown, since, turn = desk.token, time.monotonic(), 0
                    self._invite(plan, desk, turn)
                elif desk.tls_from and not hinted:
                    hinted = True
                    self._hint(plan, desk, turn)
                elif desk.visits and desk.visits[-1].knocks > knocks == 0:
                    knocks = desk.visits[-1].knocks
                    self._knocked(plan, desk, desk.visits[-1], lit)
                elif not desk.asked_for_page and time.monotonic() - since > OPEN_SECONDS and turn < len(plan.pages):
                    since, turn = time.monotonic(), turn + 1
                    self._invite(plan, desk, turn)
                desk.changed.clear()
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(desk.changed.wait(), DRAW_SECONDS)
                await asyncio.sleep(DRAW_SECONDS if desk.busy else 0)  # a sweep is news all the time
        finally:
            redrawn.clear()
            if visit is not None:
                self._after(plan, desk, visit, lit)
            if not desk.visits and self._form is Format.text:
                show(nobody_view(plan))

    def _invite(self, plan: PhonePlan, desk: PhoneDesk, turn: int) -> None:
        """The page at one of its ports, or that it opened at none."""
        if self._form is Format.json:
            if turn == 0:
                emit(as_line(LampPhone(addresses=tuple(map(desk.address_at, plan.pages)), ports=str(plan.ports),
                                       barred=str(plan.barred))))  # fmt: skip
            return
        if turn < len(plan.pages):
            show(invitation_view(plan, desk.address_at(plan.pages[turn]), turn, bool(desk.visits)))
        else:
            show(nowhere_view(plan))

    def _hint(self, plan: PhonePlan, desk: PhoneDesk, turn: int) -> None:
        if self._form is Format.text:
            show(tls_view(desk.tls_from, desk.address_at(plan.pages[min(turn, len(plan.pages) - 1)])))

    def _seen(self, plan: PhonePlan, desk: PhoneDesk, visit: PhoneVisit, lit: PortSet) -> tuple[LitFrom, ExpectedPorts]:
        """What a visit has come to, beside what is predicted for where it came from."""
        source = _last_address(visit)
        position = phone_position(self._topology, source, self._phones.client)
        foreseen = expected(self._topology, position, plan.target, plan.ports, lit)
        ledger = phone_ledger(self._topology, self._service, position)
        place = f"phone at {source}"
        knocks = visit.knocks if plan.control in plan.barred else None
        sweep = desk.sweep_of(visit)
        return LitFrom(place, position.name, foreseen.arrives, ledger, (sweep,), knocks=knocks), foreseen

    def _while_it_sweeps(
        self, plan: PhonePlan, desk: PhoneDesk, visit: PhoneVisit, lit: PortSet
    ) -> Iterator[RenderableType]:
        seen, foreseen = self._seen(plan, desk, visit, lit)
        yield from sweeping_view(plan, seen.sweeps[0], foreseen, list(visit.addresses))

    def _after(self, plan: PhonePlan, desk: PhoneDesk, visit: PhoneVisit, lit: PortSet) -> None:
        """The end of a visit: kept, judged and shown."""
        seen, _ = self._seen(plan, desk, visit, lit)
        source = _last_address(visit)
        standing = standing_of(self._topology, source)
        self._kept.append(seen)
        self._save()
        if standing != "outside" or not visit.done:
            self.code = CANNOT_TELL
        else:
            self.code = BROKEN if any(each != "ok" for each in seen.outcomes) else KEPT
        if self._form is Format.json:
            emit(as_line(sweep_result([seen], self._source.line)))
            return
        position = phone_position(self._topology, source, self._phones.client)
        elsewhere = announced_elsewhere(self._topology, self._service, position, plan.target)
        notes = visit_notes(plan, standing, str(source), seen, visit.done, elsewhere)
        save = str(self._phones.save) if self._phones.save is not None else ""
        why = () if seen.all_arrive else why_command(self._source.file, save)
        show(["", *sweeps_view(self._service.name, [seen], self._source.line), *notes, "", *why])

    def _knocked(self, plan: PhonePlan, desk: PhoneDesk, visit: PhoneVisit, lit: PortSet) -> None:
        """A connection to the control port after the end of a visit: it is kept with that."""
        seen, _ = self._seen(plan, desk, visit, lit)
        self._kept[-1] = seen
        self._save()
        if self._form is Format.json:
            emit(as_line(sweep_result([seen], self._source.line)))
        else:
            show(knocks_view(plan, visit.knocks))

    def _save(self) -> None:
        if self._phones.save is not None:
            result = as_json(sweep_result(self._kept, self._source.line)).encode()
            write({self._phones.save: result}, self._phones.force or self._saved)
            self._saved = True


def _last_address(visit: PhoneVisit) -> Address:
    found = address_or_none(next(reversed(visit.addresses)))
    assert found is not None
    return found


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
