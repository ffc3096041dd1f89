"""A real session of SSH file transfer (RFC 4253, RFC 4252, draft-ietf-secsh-filexfer-02), rung by rung, and what the
server offers.

asyncssh speaks the protocol and does greeting, key exchange, host key and login in one call; its
callbacks tell here how far that came. The password is sent once, and only to a server whose host
key is the expected one.
"""

import contextlib
import time
from dataclasses import replace

import asyncssh

from ...core.observed.climb import Climb
from ...core.observed.looks import LoginThrottling, LoginTry, SshFacts, SshOffer
from ...core.values.outcomes import SSH_RUNGS, Outcome, Rung
from ...wire.ftp import Endpoint, ProtocolFault, checked_names
from ...wire.ssh_offer import OfferReader
from ...wire.terminal_safe import decoded
from ..common.channel import Channel, connected, packets_note, timed, trusted
from ..common.ladder import PREFIX, TIDY_SECONDS, Climber, Progress, dialled_by, looked_up, shown
from ..common.visit_plan import VisitPlan, stranger
from ..own_process import aside
from ..vantage.base import Connected, Failed
from .rights import SshTrial

MOST_ENTRIES = 10_000
_FAULTS = (asyncssh.Error, OSError, EOFError, ValueError, LookupError, TypeError, AssertionError)
"""Bytes that make no sense surface as any exception of the library's readers."""


async def visit_ssh(plan: VisitPlan, progress: Progress = lambda rung: None) -> Climb:
    """Climb the ladder once. Network faults become outcomes; what was sent is removed again."""
    climber = _SshClimber(plan, progress)
    await climber.run()
    dialled = dialled_by(plan)
    return Climb(
        shown(dialled), plan.target.service, plan.target.client, "", climber.ladder(),
        ssh=climber.facts, rights=climber.rights, pace=climber.pace, missed=climber.missed(), dialled=dialled,
    )  # fmt: skip


class _SshClimber(Climber):
    rungs = SSH_RUNGS
    faults = (Failed, *_FAULTS)

    def __init__(self, plan: VisitPlan, progress: Progress) -> None:
        super().__init__(replace(plan, advice=plan.advice.over_ssh()), progress)
        self.client = SshClient(plan)
        self._connected: Connected | None = None
        self._connection: asyncssh.SSHClientConnection | None = None
        self._files: asyncssh.SFTPClient | None = None
        self.answered_at = 0.0
        self.facts: SshFacts | None = None

    def as_failed(self, error: Exception) -> Failed:
        """What the server states it refuses is separate from what makes no sense."""
        if isinstance(error, Failed):
            return error
        if isinstance(error, asyncssh.SFTPError):
            return Failed("refused", f"the server replied {error.reason}")
        return Failed("wrong", str(error) or "the server hangs up")

    async def climb(self) -> None:
        """Every rung until one fails."""
        try:
            await self.rung("name", self._name)
            await self.rung("connect", self._connect)
            async with self.plan.credentials.gate.turn():
                await self._entered()
            await self.rung("list", self._list)
            if self.plan.limits.writes:
                await self._written_and_read()
        except Failed:
            return

    async def look_further(self) -> None:
        """What SSH offers, rights and wrong logins, as far as they are asked for and the session has come."""
        plan = self.plan
        if plan.looks.closely:
            await self.look("closely", self._look_closely)
        if plan.looks.tries_rights:
            await self.look("rights", self._look_at_rights)
        if plan.looks.login_tries and self.address:  # last, since it may bar this address
            await self.look("login-throttling", self._look_at_wrong_logins)

    async def _look_closely(self) -> None:
        offer = await ssh_offer(self.plan, self.address) if self.client.kind else None
        if offer is None:
            raise Failed("unknown", "no key exchange of the server was seen")
        self.facts = SshFacts(
            offer, self.client.kind, self.client.bits, self.client.fingerprint, self.plan.security.host_key
        )

    async def _look_at_rights(self) -> None:
        if self._files is None:
            raise Failed("unknown", "the account came to no folder")
        self.refuse_where_tricked()
        self.rights = await SshTrial(self._files, self.plan, PREFIX).seen()

    async def _look_at_wrong_logins(self) -> None:
        self.pace = await self._pace()

    async def _pace(self) -> LoginThrottling:
        """Wrong logins, each on a connection of its own."""
        tries: list[LoginTry] = []
        for _ in range(self.plan.looks.login_tries):
            anyhow = replace(self.plan.security, any_certificate=True)
            guess = _SshClimber(replace(stranger(self.plan), security=anyhow), self.progress)
            guess.address = self.address
            try:
                await guess.log_in()
            finally:
                await guess.leave()
            if not guess.client.asked_at:
                return LoginThrottling(tuple(tries), guess.climbed[guess.current].detail)
            login = guess.climbed["login"]
            tries.append(LoginTry(guess.answered_at - guess.client.asked_at, login.outcome == "ok"))
            if login.outcome == "ok":
                break
        return LoginThrottling(tuple(tries))

    async def log_in(self) -> None:
        """The rungs from connect to login, whatever comes of them."""
        with contextlib.suppress(Failed):
            await self.rung("connect", self._connect)
            await self._entered()
        self.answered_at = time.perf_counter()

    async def _name(self) -> str:
        self.address, detail = await looked_up(self.plan)
        return detail

    async def _connect(self) -> str:
        endpoint = Endpoint(self.address, self.plan.target.port)
        self._connected = await connected(self.plan, endpoint)
        return f"{endpoint} answers{packets_note(self._connected.sock)}"

    async def _entered(self) -> None:
        """Greeting, key exchange, host key and login, separated by how far they came."""
        started = time.perf_counter()
        try:
            self._connection = await timed(2 * self.plan.limits.timeout, self._shaken())
        except Failed as failed:
            raise self._stopped("silent", failed.detail, started) from None
        except asyncssh.HostKeyNotVerifiable:
            raise self._stopped("wrong", self._key_differs(), started) from None
        except asyncssh.PermissionDenied as error:
            if self.plan.credentials.gate.shut:
                raise self._stopped("unknown", self.plan.credentials.gate.shut, started) from None
            self.plan.credentials.gate.rejected(error.reason)
            raise self._stopped("refused", f"the server replied {error.reason}", started) from None
        except asyncssh.KeyExchangeFailed as error:
            raise self._stopped("wrong", f"no common algorithm: {error.reason}", started) from None
        except Exception as error:  # bytes that make no sense surface as any exception of the library's readers
            reason = getattr(error, "reason", "") or str(error) or "the server hangs up"
            raise self._stopped("wrong", reason, started) from None
        self._passed(started)
        self.plan.credentials.gate.let_in()
        self.note("login", "ok", f"as {self.plan.credentials.user}", started)

    async def _shaken(self) -> asyncssh.SSHClientConnection:
        assert self._connected is not None
        return await asyncssh.connect(
            self.plan.target.name,
            self.plan.target.port,
            sock=self._connected.sock,
            client_factory=lambda: self.client,
            known_hosts=((), (), ()),
            username=self.plan.credentials.user,
            client_keys=None,
            agent_path=None,
            config=None,
            preferred_auth="password",
            server_host_key_algs="default",
            login_timeout=2 * self.plan.limits.timeout,
        )

    def _passed(self, started: float) -> None:
        """The rungs that lie behind once the host key was shown."""
        self.note("greet", "ok", self.client.version, started)
        self.note("secure", "ok", self._algorithms(), started)
        compared = "not compared" if self.plan.security.any_certificate else "as expected"
        self.note("host-key", "ok", f"{self.client.key}, {compared}", started)

    def _stopped(self, outcome: Outcome, detail: str, started: float) -> Failed:
        """Note a failure at the rung that was reached."""
        if not self.client.version:
            rung: Rung = "greet"
        elif not self.client.key:
            rung = "secure"
            self.note("greet", "ok", self.client.version, started)
        elif not self.client.key_fits:
            rung = "host-key"
            self.note("greet", "ok", self.client.version, started)
        else:
            rung = "login"
            self._passed(started)
        self.note(rung, outcome, detail, started)
        return Failed("wrong", detail)

    def _key_differs(self) -> str:
        if not self.plan.security.host_key:
            return f"the host shows {self.client.key}; compare it, then give --host-key"
        return f"the host shows {self.client.key}, expected is {self.plan.security.host_key}"

    def _algorithms(self) -> str:
        if self._connection is None:
            return "keys exchanged"
        info = self._connection.get_extra_info
        return f"cipher {info('send_cipher')}, {info('send_mac') or 'no separate mac'}"

    async def _list(self) -> str:
        assert self._connection is not None
        # a name that is no UTF-8 is a name all the same
        self._files = await self._connection.start_sftp_client(path_errors="backslashreplace")
        names: list[str] = []
        async for each in self._files.scandir("."):
            name = each.filename
            names.append(decoded(name) if isinstance(name, bytes) else name)
            if len(names) > MOST_ENTRIES:
                raise Failed("wrong", f"more than {MOST_ENTRIES} entries in the folder; given up")
        listing = await aside(lambda: checked_names(names))
        self.tricked = bool(listing.tricks)
        return trusted(listing)

    async def _written_and_read(self) -> None:
        await self.rung("send", self._send)
        if self.plan.limits.reads:
            await self.rung("fetch", self._fetch)
        if self.plan.limits.removes:
            await self.rung("tidy", self._remove)

    async def _send(self) -> str:
        assert self._files is not None
        async with self._files.open(self.file, "wb") as file:
            self.sent = self.plan.limits.removes
            await file.write(self.content)
        return f"{len(self.content)} bytes as {self.file}"

    async def _fetch(self) -> str:
        assert self._files is not None
        async with self._files.open(self.file, "rb") as file:
            came: object = await file.read(4 * len(self.content))
        if came != self.content:
            raise Failed("wrong", f"sent {len(self.content)} bytes, fetched others")
        return "the same bytes came back"

    async def _remove(self) -> str:
        assert self._files is not None
        await self._files.remove(self.file)
        self.sent = False
        return f"{self.file} removed"

    async def leave(self) -> None:
        """Remove what was sent, and hang up."""
        if self.sent:
            try:
                await timed(TIDY_SECONDS, self._remove())
            except (Failed, *_FAULTS) as error:
                self.note_left_behind(error)
        if self._connection is not None:
            self._connection.abort()
        elif self._connected is not None:
            self._connected.sock.close()


class SshClient(asyncssh.SSHClient):
    """Is this the host, and what is the password: answered once."""

    def __init__(self, plan: VisitPlan) -> None:
        self.plan = plan
        self.key = ""
        self.key_fits = False
        self.kind, self.fingerprint, self.bits = "", "", 0
        self.asked_at = 0.0
        self.asked = False
        self._connection: asyncssh.SSHClientConnection | None = None

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        """TCP stands."""
        self._connection = conn

    @property
    def version(self) -> str:
        """What the server calls itself, empty until it has greeted (RFC 4253, section 4.2)."""
        return str(self._connection.get_extra_info("server_version", "")) if self._connection else ""

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """The server has shown its host key."""
        self.kind, self.fingerprint = key.get_algorithm(), key.get_fingerprint()
        self.bits = getattr(key.pyca_key, "key_size", 0)
        self.key = f"{self.kind} {self.fingerprint}"
        self.key_fits = self.plan.security.any_certificate or self.fingerprint == self.plan.security.host_key
        return self.key_fits

    def password_auth_requested(self) -> str | None:
        """The server takes passwords; it gets one, once."""
        if self.asked or self.plan.credentials.gate.shut:
            return None
        self.asked = True
        self.asked_at = time.perf_counter()
        return self.plan.credentials.password.reveal()


HELLO = b"SSH-2.0-EagerLantern\r\n"


async def ssh_offer(plan: VisitPlan, address: str) -> SshOffer | None:
    """The offer; None where none comes in time."""
    with contextlib.suppress(Failed, ProtocolFault, OSError):
        return await timed(plan.limits.timeout, _offer(plan, address))
    return None


async def _offer(plan: VisitPlan, address: str) -> SshOffer | None:
    way = plan.reach(address, plan.target.port)
    channel = await Channel.over(await plan.vantage.connect(way.address, way.port, way.source))
    try:
        await channel.write(HELLO)
        reader = OfferReader()
        while data := await channel.read():
            if offer := reader.receive(data):
                return offer
        return None
    finally:
        channel.abort()
