"""A real session, rung by rung.

Every rung is tried in order and timed; the first that fails ends the climb, but for two: an
announced address that is not followed does not keep the control connection's own from being
tried, and an account that may not write can still list. Whatever was sent is removed again,
also when the visit is interrupted.
"""

import asyncio
import contextlib
import ssl
from dataclasses import replace
from typing import Literal

from ...core.observed.climb import Climb, PassiveReply
from ...core.observed.looks import BounceCheck, TlsFacts
from ...core.observed.range_estimate import RangeSeen
from ...core.values.addresses import Address
from ...core.values.outcomes import RUNGS
from ...wire.ftp import Endpoint, ProtocolFault, State, read_listing
from ..common.channel import Channel, trusted
from ..common.ladder import PREFIX, TIDY_SECONDS, Climber, Progress, dialled_by, looked_up, shown
from ..common.visit_plan import VisitPlan
from ..own_process import aside
from ..vantage.base import Failed
from .caution import caution, login_pace
from .rights import Trial
from .session import MOST_LISTING_BYTES, Session, awaited_at, commanded, completed, followed, taken_in
from .sweep import range_seen
from .tls import tls_facts

PAUSE_SECONDS = 0.2


async def visit_ftp(plan: VisitPlan, progress: Progress = lambda rung: None) -> Climb:
    """Climb the ladder once, then look at whatever else the plan asks for. Network faults become
    outcomes; cancelling tidies up first."""
    climber = _FtpClimber(plan, progress)
    await climber.run()
    dialled = dialled_by(plan)
    return Climb(
        shown(dialled), plan.target.service, plan.target.client, plan.data.mode, climber.ladder(),
        planned=plan.data.planned, tls=climber.tls, range=climber.range, rights=climber.rights,
        caution=climber.caution, pace=climber.pace, missed=climber.missed(), dialled=dialled, reply=climber.reply,
    )  # fmt: skip


async def probe_port(plan: VisitPlan, holds: Literal["works", "shut"]) -> Climb:
    """Only look whether the port answers, for what is no file transfer or has to stay shut."""
    climber = _FtpClimber(plan, lambda rung: None)
    try:
        await climber.reach()
    finally:
        await climber.leave()
    rungs = tuple(each for each in climber.ladder() if each.rung in ("name", "connect"))
    dialled = dialled_by(plan)
    who = plan.target.service, plan.target.client
    return Climb(shown(dialled), *who, "", rungs, holds, ("connect",), dialled=dialled)


class _FtpClimber(Climber):
    rungs = RUNGS
    faults = (Failed, ValueError, ProtocolFault, OSError, ssl.SSLError)

    def __init__(self, plan: VisitPlan, progress: Progress) -> None:
        super().__init__(plan, progress)
        self.session = Session(plan)
        self.endpoint: Endpoint | None = None
        self.tls: TlsFacts | None = None
        self.range: RangeSeen | None = None
        self.caution: BounceCheck | None = None
        self.reply: PassiveReply | None = None

    def as_failed(self, error: Exception) -> Failed:
        """A ValueError is a user name or password that no command can carry; SSL errors, though they are of
        that kind too, are the peer's."""
        if isinstance(error, Failed):
            return error
        if isinstance(error, TimeoutError):
            return Failed("silent", "no answer in time")
        ours = isinstance(error, ValueError) and not isinstance(error, OSError)
        return Failed("unknown" if ours else "wrong", str(error))

    async def climb(self) -> None:
        """Every rung until one fails."""
        with contextlib.suppress(Failed):
            await self._found()
            await self._greeted_and_secured()
            async with self.plan.credentials.gate.turn():
                await self.rung("login", self._login)
            await self._listing()
            if self.plan.limits.writes:
                await self._written_and_read()

    async def _login(self) -> str:
        """Only if it may be tried."""
        self.plan.credentials.gate.pass_or_fail()
        try:
            detail = await self.session.login()
        except Failed as failed:
            if failed.outcome == "refused":
                self.plan.credentials.gate.rejected(failed.detail)
            raise
        self.plan.credentials.gate.let_in()
        return detail

    @property
    def logged_in(self) -> bool:
        """Whether the account was let in; where not, it is never tried again."""
        return "login" in self.climbed and self.climbed["login"].outcome == "ok"

    async def reach(self) -> None:
        """The rungs up to a connection that stands."""
        with contextlib.suppress(Failed):
            await self._found()

    async def _found(self) -> None:
        await self.rung("name", self._name)
        await self.rung("connect", lambda: self.session.connect(self.address))

    async def _greeted_and_secured(self) -> None:
        if self.plan.security.mode == "implicit":
            await self.rung("secure", self.session.secure)
            await self.rung("greet", self.session.greet)
            await self.rung("secure", self.session.protect)
            return
        await self.rung("greet", self.session.greet)
        if self.plan.security.mode == "explicit":
            await self.rung("secure", self.session.secure)
        else:
            self.note("secure", "untried", "not asked for: login and data travel in clear", None)

    async def _name(self) -> str:
        self.address, detail = await looked_up(self.plan)
        return detail

    async def _listing(self) -> None:
        """The first data connection, with a rung of its own for each of its steps."""
        data = await self._open_data("LIST", "", first=True)

        async def listed() -> str:
            came = await self._fetched(data, "LIST", "")
            listing = await aside(lambda: read_listing(came))
            self.tricked = bool(listing.tricks)
            return trusted(listing)

        await self.rung("list", listed)

    async def look_further(self) -> None:
        """TLS, rights and the range, as far as they are asked for and the session has come; what fails
        here changes nothing in the ladder, and is reported."""
        plan = self.plan
        if plan.looks.closely and plan.security.mode != "none" and self.address:
            await self.look("closely", self._look_closely)
        elif plan.security.mode == "none":
            self.cannot_look("this session has no TLS", "closely")
        if not self.logged_in:
            self.cannot_look("the login was rejected", "rights", "bounce", "range", "login-throttling")
            return
        if plan.looks.tries_rights:
            await self.look("rights", self._look_at_rights)
        if plan.looks.tries_caution:
            await self.look("bounce", self._look_at_caution)
        if plan.looks.range_connections:
            await self.look("range", self._look_at_range)
        if plan.looks.login_tries:  # last, since it may bar this address
            await self.look("login-throttling", self._look_at_wrong_logins)

    async def _look_closely(self) -> None:
        await self.list_without_resuming()
        self.tls = await tls_facts(self.plan, self.address, self.session)
        if self.tls is None:
            secure = self.climbed.get("secure")
            why = f": {secure.detail}" if secure is not None and secure.outcome != "ok" else ""
            raise Failed("unknown", f"no TLS comes about{why}")

    async def _look_at_rights(self) -> None:
        self._ready()
        self.refuse_where_tricked()
        self.rights = await Trial(self, self.plan, PREFIX).seen()

    async def _look_at_caution(self) -> None:
        self._ready()
        self.caution = await caution(self.session, self.climbed["greet"].detail)

    async def _look_at_range(self) -> None:
        self.range = await range_seen(self.plan, self.address, self.plan.looks.range_connections)

    async def _look_at_wrong_logins(self) -> None:
        self.pace = await login_pace(self.plan, self.address)

    def _ready(self) -> None:
        """Raises Failed where the control connection can carry no further command."""
        if self.session.control.state is not State.READY:
            raise Failed("unknown", "the control connection can carry no further command")

    async def list_without_resuming(self) -> None:
        """One more listing whose data connection resumes nothing, to see whether that is demanded."""
        session = self.session
        if session.control.state is not State.READY or not session.data_resumed:
            return
        session.plan = replace(self.plan, security=replace(self.plan.security, resumes=False))
        try:
            data = await self._open_data("LIST", "")
            await self._fetched(data, "LIST", "")
            session.demands_resuming = False
        except (Failed, ProtocolFault, OSError, ssl.SSLError):
            session.demands_resuming = True
        finally:
            session.plan, session.data_resumed = self.plan, True

    async def moved(self, verb: str, argument: str, content: bytes | None) -> bytes:
        """Send the content, or fetch what there is. Raises Failed where the server refuses."""
        data = await self._open_data(verb, argument)
        if content is None:
            return await self._fetched(data, verb, argument)
        await self._begin(data, verb, argument)
        await data.write(content)
        await completed(self.session, data, verb)
        return b""

    async def _written_and_read(self) -> None:
        try:
            await self.rung("send", self._send)
        except Failed as failed:
            if failed.outcome != "refused":
                raise
            return
        if self.plan.limits.reads:
            with contextlib.suppress(Failed):
                await self.rung("fetch", self._fetch)
        if self.plan.limits.removes:
            await self.rung("tidy", self._remove)

    async def _send(self) -> str:
        reply = await self.session.ask("TYPE", "I")  # else line ends may be rewritten on the way
        if reply.kind != 2:
            raise Failed("refused", f"TYPE I: the server replied {reply}")
        data = await self._open_data("STOR", self.file)
        await self._begin(data, "STOR", self.file)
        await self._write_slowly(data)
        await completed(self.session, data, "STOR")
        return f"{len(self.content)} bytes as {self.file}"

    async def _write_slowly(self, data: Channel) -> None:
        """All of the content, drawn out for as long as planned, the last byte at the end."""
        pauses = int(self.plan.limits.lasts / PAUSE_SECONDS)
        for i in range(pauses):
            await data.write(self.content[i : i + 1] if i < len(self.content) - 1 else b"")
            await asyncio.sleep(PAUSE_SECONDS)
        await data.write(self.content[min(pauses, len(self.content) - 1) :])

    async def _fetch(self) -> str:
        data = await self._open_data("RETR", self.file)
        came = await self._fetched(data, "RETR", self.file, 4 * len(self.content))
        if came != self.content:
            raise Failed("wrong", f"sent {len(self.content)} bytes, fetched {len(came)} that differ")
        return "the same bytes came back"

    async def _remove(self) -> str:
        reply = await self.session.ask("DELE", self.file)
        if reply.kind != 2:
            raise Failed("refused", f"{self.file} could not be removed: the server replied {reply}")
        self.sent = False
        return f"{self.file} removed"

    async def _open_data(self, verb: str, argument: str, first: bool = False) -> Channel:
        """A data connection; that of the first transfer has rungs of its own.

        Passive, it stands before the command is sent; active, the command brings it.
        """
        if self.plan.data.mode == "active":
            return await self._active_data(verb, argument, first)
        if first:
            with contextlib.suppress(Failed):
                await self.rung("announce", self._announce_passive)
            if self.endpoint is None:
                raise Failed("wrong", "no data port was announced")
        else:
            await self._announce_passive()
        return await self._passive_data(first)

    async def _begin(self, data: Channel, verb: str, argument: str) -> None:
        """Begin to send: the command where it was not given yet, then TLS."""
        if self.plan.data.mode == "passive":
            await self._command(verb, argument)
        await self.session.shield_data(data)

    async def _fetched(self, data: Channel, verb: str, argument: str, most: int = MOST_LISTING_BYTES) -> bytes:
        """What the server sends, after the command where it was not given yet."""
        if self.plan.data.mode == "passive":
            await self._command(verb, argument)
        return await taken_in(self.session, data, verb, most)

    async def _command(self, verb: str, argument: str) -> None:
        self.sent = self.sent or (argument == self.file and verb == "STOR" and self.plan.limits.removes)
        try:
            await commanded(self.session, verb, argument)
        except Failed as failed:
            if verb == "STOR" and failed.outcome == "refused":
                self.sent = False
            raise

    async def _announce_passive(self) -> str:
        """Ask where data goes. An address that is not the server's is reported, and followed only
        when that was asked for."""
        peer = self.session.wire.peer
        announced, reply = await self.session.passive()
        if self.reply is None:
            self.reply = PassiveReply(announced.port, announced.address, reply.code == 229)
        if announced.address == peer:
            self.endpoint = announced
            return f"{reply}"
        again = self.endpoint is not None
        self.endpoint = Endpoint(peer, announced.port)  # which is tried where the other is not followed
        self.endpoint = followed(self.plan, announced, peer)
        if self.plan.data.announced == "follow":
            return f"the reply names {announced.address}, not {peer}; followed as asked"
        if self.plan.data.announced != "report":
            return f"the reply names {announced.address}; {self.endpoint.address} used"
        if again:
            return "as before"
        kind = Address.parse(announced.address).kind
        named = f"{announced.address}" + (f" ({kind})" if kind != "public" else "")
        raise Failed("wrong", f"the reply names {named}, the server is {peer}; not followed (--follow-announced does)")

    async def _passive_data(self, first: bool) -> Channel:
        endpoint = self.endpoint
        assert endpoint is not None
        channels: list[Channel] = []

        async def dial() -> str:
            channels.append(await self.session.dialled(endpoint))
            return f"{endpoint} answers"

        await (self.rung("data", dial) if first else dial())
        return channels[0]

    async def _active_data(self, verb: str, argument: str, first: bool) -> Channel:
        channels: list[Channel] = []
        async with awaited_at(self.session, self.plan) as (listener, named):

            async def awaited() -> str:
                await self._command(verb, argument)
                channels.append(await self.session.arrival(listener))
                return f"the server connected to {named}"

            if first:
                await self.rung("announce", lambda: self.session.name_port(named))
                await self.rung("data", awaited)
            else:
                await self.session.name_port(named)
                await awaited()
        return channels[0]

    async def leave(self) -> None:
        """Remove what was sent, whatever state the session is in, and hang up."""
        if self.sent:
            try:
                async with asyncio.timeout(TIDY_SECONDS):
                    await self._remove_somehow()
            except (Failed, ProtocolFault, OSError, ssl.SSLError, TimeoutError) as error:
                self.note_left_behind(error)
        await self.session.leave()

    async def _remove_somehow(self) -> None:
        """On the session as it is, or, where that hangs, on a new one."""
        if self.session.control.state is not State.READY:
            if self.session.channel is not None:
                self.session.channel.abort()
            self.session = Session(self.plan)
            await self.session.enter(self.address)
        detail = await self._remove()
        self.note("tidy", "ok", detail, None)
