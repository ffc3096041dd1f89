"""The log of a session, whichever client wrote it: what was said, and how far it came.

Theory: what all logs have in common
====================================
Clients write their logs in many layouts and languages: with time stamps, arrows, words before each line. What they do
not make up themselves is the same in all: a command is one of the verbs of RFC 959, 2228, 2428, 3659 and 4217, a reply
has three digits and then a space or a hyphen (RFC 959, section 4.2). So of every line the first of the two that stands
in it counts, and all before it is layout. A line with neither is talk of the client, or the rest of a reply that was
wrapped; of talk only the names count that operating systems have for errors.

>>> told = read_log('''
... 10:31:07 [2] < 220 Tide exchange
... 10:31:07 [2] > USER station
... 10:31:08 [2] < 331 Parole requise
... 10:31:08 [2] > PASS ****
... 10:31:08 [2] < 230 Bienvenue
... 10:31:09 [2] > PASV
... 10:31:09 [2] < 227 (198,51,100,61,239,
...                  144)
... 10:31:09 [2] > LIST
... 10:31:30 [2] delai depasse
... ''')
>>> told.reached, told.rung, told.outcomes, told.endpoints[0].port
('announce', 'data', ('refused', 'silent', 'wrong'), 61328)
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from ..core.model.site import Mode
from ..core.values.outcomes import Outcome, Rung
from .endpoints import Endpoint, extended_port, passive_endpoint
from .reply import ProtocolFault, Reply

_TRANSFERS: dict[str, Rung] = {
    "LIST": "list", "NLST": "list", "MLSD": "list", "STOR": "send", "STOU": "send", "APPE": "send", "RETR": "fetch",
}  # fmt: skip
_VERBS = (
    "USER", "PASS", "ACCT", "AUTH", "PBSZ", "PROT", "CCC", "PASV", "EPSV", "PORT", "EPRT", "TYPE", "CWD", "CDUP", "PWD",
    "SYST", "FEAT", "OPTS", "NOOP", "QUIT", "ABOR", "SIZE", "MDTM", "REST", "DELE", "MKD", "RMD", "STAT", "HELP",
    *_TRANSFERS,
)  # fmt: skip
_COMMAND = re.compile(rf"(?<![A-Za-z0-9_\"'“(])({'|'.join(_VERBS)})(?=\s|$)")
_REPLY = re.compile(r"(?<![0-9A-Za-z.,:/+_-])([1-5][0-5][0-9])([ -](?=\S)|[ -]?$)")
_ERRORS: dict[str, Outcome] = {  # public interface: what systems call their errors (POSIX strerror)
    "connection refused": "refused",
    "econnrefused": "refused",
    "no route to host": "refused",
    "ehostunreach": "refused",
    "network is unreachable": "refused",
    "timed out": "silent",
    "etimedout": "silent",
}
FAILED: tuple[Outcome, ...] = ("refused", "silent", "wrong")
MOST_LINES = 100_000


class NoSessionLog(ValueError):
    """The text is no log of a session, with the reason."""


@dataclass(slots=True)
class SessionTold:
    """How far a session came by its log: as a sighting has it, with the data ports that its replies named, and
    by which of them each transfer that came to its end went; -1 is one of which the log lacks the reply."""

    protocol: Literal["ftp", "sftp"] = "ftp"
    mode: Mode | None = None
    extended: bool | None = None
    secured: bool = False
    reached: Rung | None = None
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ()
    works: bool = False
    endpoints: list[Endpoint] = field(default_factory=list)
    carried: list[int] = field(default_factory=list)


def read_log(text: str) -> SessionTold:
    """What a log tells. Raises NoSessionLog for a text in which no command, reply or error of a session stands."""
    lines = text.splitlines()
    if len(lines) > MOST_LINES:
        raise NoSessionLog(f"has {len(lines)} lines, of which at most {MOST_LINES} are read: cut it to one session")
    if any(_SSH.search(each) for each in lines):
        return _ssh(lines)
    events = list(_events(lines))
    if not any(each.code or each.verb for each in events) and not any(each.error for each in events):
        raise NoSessionLog("has no command and no reply of FTP in it, and nothing of SSH")
    return _Reading(events).told


@dataclass(frozen=True, slots=True)
class _Event:
    """A command, a reply, or an error of the system."""

    verb: str = ""
    code: int = 0
    text: str = ""
    error: Outcome | None = None


def _events(lines: list[str]) -> Iterator[_Event]:
    for i, line in enumerate(lines):
        command, reply = _COMMAND.search(line), _REPLY.search(line)
        if reply and (not command or reply.start() < command.start()):
            rest = line[reply.end() :].strip()
            yield _Event(code=int(reply[1]), text=_unwrapped(int(reply[1]), rest, lines[i + 1 : i + 3]))
        elif command:
            yield _Event(command[1])
        elif error := next((outcome for words, outcome in _ERRORS.items() if words in line.lower()), None):
            yield _Event(error=error)


def _unwrapped(code: int, text: str, following: list[str]) -> str:
    """A passive reply with what was broken off at the edge of the screen."""
    if code not in (227, 229) or ")" in text:
        return text
    return text + "".join(each.strip() for each in following)


class _Reading:
    """The events of one session, one after the other."""

    def __init__(self, events: list[_Event]) -> None:
        self.told = SessionTold()
        self.asked = ""
        self.transfer: Rung | None = None
        self.opened = False
        self.protects = False
        for each in events:
            if each.code:
                self._reply(each)
            elif each.verb:
                self._command(each)
            elif each.error is not None:
                self._error(each.error)
        self._end()

    def _well(self, rung: Rung) -> None:
        self.told.reached, self.told.rung, self.told.outcomes = rung, None, ()

    def _ill(self, rung: Rung, *outcomes: Outcome) -> None:
        self.told.rung, self.told.outcomes = rung, outcomes

    def _command(self, event: _Event) -> None:
        told = self.told
        if event.verb in ("ABOR", "QUIT"):
            self._end()
        elif self.asked in _TRANSFERS and not self.opened and told.rung is None:
            self._well("data")  # a client goes on only once it was answered: the answer is missing here
        self.asked = event.verb
        if event.verb in ("PASV", "EPSV"):
            told.mode = "passive"
        elif event.verb in ("PORT", "EPRT"):
            told.mode, told.extended = "active", event.verb == "EPRT"
        elif event.verb in _TRANSFERS:
            self.transfer, self.opened = _TRANSFERS[event.verb], False
            if told.rung in ("data", "list", "send", "fetch"):
                told.rung, told.outcomes = None, ()

    def _reply(self, event: _Event) -> None:
        kind, told = event.code // 100, self.told
        if told.reached is None and not self.asked:
            self._well("greet") if kind in (1, 2) else self._ill("greet", "refused")
        elif event.code == 421:
            self._ill(_after(told.reached), *FAILED)
        elif self.asked == "AUTH":
            told.secured = event.code in (234, 334)
            self._well("secure") if told.secured else self._ill("secure", "refused")
        elif self.asked in ("USER", "PASS", "ACCT") and kind != 3:
            self._well("login") if kind == 2 else self._ill("login", "refused")
        elif self.asked in ("PASV", "EPSV", "PORT", "EPRT") and kind in (2, 4, 5):
            self._announced(event)
        elif self.asked in _TRANSFERS and self.transfer:
            self._transferred(event, self.transfer)

    def _announced(self, event: _Event) -> None:
        told = self.told
        if event.code in (227, 229):
            reply = Reply(event.code, (event.text,))
            told.extended = event.code == 229
            try:
                port = Endpoint("", extended_port(reply)) if told.extended else passive_endpoint(reply)
            except ProtocolFault:
                self._well("announce")
                return
            told.endpoints.append(port)
        if event.code // 100 == 2:
            self._well("announce")
        else:
            self._ill("announce", "refused")

    def _transferred(self, event: _Event, rung: Rung) -> None:
        kind = event.code // 100
        if kind == 1:
            self.opened = True
            self._well("data")
        elif kind == 2:
            self._well(rung)
            self.told.works = True
            self.told.carried.append(len(self.told.endpoints) - 1)
            self.asked, self.transfer = "", None
        elif event.code == 425 and not self.opened:
            self._ill("data", *FAILED)
        else:
            self._ill(rung, *(FAILED if event.code in (425, 426) else ("refused",)))

    def _error(self, outcome: Outcome) -> None:
        told = self.told
        if told.reached is None:
            self._ill("connect", outcome)
        elif told.rung is None and self.asked in ("PASV", "EPSV", *_TRANSFERS) and not self.opened:
            self._ill("data", outcome)
        elif told.rung == "data":
            told.outcomes = (outcome,)

    def _end(self) -> None:
        """A transfer that was asked for, and of which nothing more was heard, did not come about."""
        told = self.told
        waiting = self.asked in _TRANSFERS and self.transfer is not None
        if waiting and told.rung is None:
            self._ill(self.transfer or "list" if self.opened else "data", *FAILED)
        told.works = told.works and told.rung is None


def _after(reached: Rung | None) -> Rung:
    """The rung at which a server that hangs up is met."""
    following: dict[Rung | None, Rung] = {None: "greet", "greet": "login", "secure": "login", "login": "announce"}
    return following.get(reached, "list")


_SSH = re.compile(r"SSH-2\.0-|SSH2?_MSG_[A-Z]+|SSH2?_FXP?_[A-Z]+")
_SSH_SIGNS: tuple[tuple[re.Pattern[str], Rung, Outcome], ...] = (  # public interface: OpenSSH's words, RFC 4250's names
    (re.compile(r"SSH-2\.0-"), "greet", "ok"),
    (re.compile(r"SSH2?_MSG_NEWKEYS received"), "secure", "ok"),
    (re.compile(r"host key verification failed|REMOTE HOST IDENTIFICATION HAS CHANGED", re.I), "host-key", "wrong"),
    (re.compile(r"SSH2?_MSG_SERVICE_ACCEPT received"), "host-key", "ok"),
    (re.compile(r"SSH2?_MSG_USERAUTH_SUCCESS|\bAuthenticated (to|with)\b"), "login", "ok"),
    (re.compile(r"permission denied \(|too many authentication failures", re.I), "login", "refused"),
    (re.compile(r"subsystem request failed|SSH2?_FX_PERMISSION_DENIED", re.I), "list", "refused"),
    (re.compile(r"SSH2?_FXP_NAME|\bReceived reply T:104\b"), "list", "ok"),
)


def _ssh(lines: list[str]) -> SessionTold:
    """The same of a session over SSH, by the names that its messages have (RFC 4250, section 4.1)."""
    told = SessionTold("sftp")
    for line in lines:
        for sign, rung, outcome in _SSH_SIGNS:
            if sign.search(line):
                if outcome == "ok":
                    told.reached, told.rung, told.outcomes = rung, None, ()
                else:
                    told.rung, told.outcomes = rung, (outcome,)
        error = next((each for words, each in _ERRORS.items() if words in line.lower()), None)
        if error is not None and told.reached is None:
            told.rung, told.outcomes = "connect", (error,)
    told.works = told.reached == "list" and told.rung is None
    return told
