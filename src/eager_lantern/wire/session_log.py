"""The log of a session, whichever client wrote it: commands, replies, and how far it came.

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
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal

from ..core.model.site import Mode
from ..core.values.outcomes import Outcome, Rung
from .ftp import Endpoint, ProtocolFault, Reply, extended_port, passive_endpoint

_TRANSFERS: dict[str, Rung] = {
    "LIST": "list", "NLST": "list", "MLSD": "list", "STOR": "send", "STOU": "send", "APPE": "send", "RETR": "fetch",
}  # fmt: skip
_VERBS = (
    "USER", "PASS", "ACCT", "AUTH", "PBSZ", "PROT", "CCC", "PASV", "EPSV", "PORT", "EPRT", "TYPE", "CWD", "CDUP", "PWD",
    "SYST", "FEAT", "OPTS", "NOOP", "QUIT", "ABOR", "SIZE", "MDTM", "REST", "DELE", "MKD", "RMD", "STAT", "HELP",
    *_TRANSFERS,
)  # fmt: skip
_COMMAND = re.compile(rf"(?:(?<![A-Za-z0-9_\"'“(])|(?<=\*cmd\* ['\"]))({'|'.join(_VERBS)})(?=[\s'\"]|$)")
"""A verb; in quotes it is one only where a log says so (public interface: Python's ftplib writes ``*cmd* 'LIST'``)."""
_REPLY = re.compile(r"(?<![0-9A-Za-z.,/+_-])(?<![0-9]:)([1-5][0-5][0-9])([ -](?=\S)|[:\]] (?=\S)|[ -]?$)")
_SIX_NUMBERS = re.compile(r"\d+(,\d+){5}")
_BEFORE_NUMBERS = " \t|>:-*#"
"""What stands before a line that was wrapped, and in no address."""
_CODES = {
    110, 120, 125, 150, 200, 202, *range(211, 216), 220, 221, *range(225, 231), 232, 234, 235, 250, 257,
    *range(331, 338), 350, 421, 425, 426, 430, 431, 434, *range(450, 453), *range(500, 509), *range(520, 523),
    *range(530, 539), *range(550, 554),
}  # fmt: skip
"""The codes of replies (RFC 959, 2228, 2389, 2428, 4217), and those by which servers say of their own that data or TLS
failed."""
SELDOM = 3
Errors = Mapping[str, Outcome]
"""What systems call their errors, in small letters, and what each is for a client."""
ENGLISH: Errors = {  # public interface: POSIX strerror
    "connection refused": "refused", "no route to host": "refused", "network is unreachable": "refused",
    "connection timed out": "silent", "connection reset by peer": "wrong", "broken pipe": "wrong",
}  # fmt: skip
_NAMED: Errors = {  # public interface: what programs write beside or instead of the system's words
    "econnrefused": "refused", "ehostunreach": "refused", "etimedout": "silent", "timed out": "silent",
    "connection refused": "refused", "connectionrefusederror": "refused", "timeout - reconnecting": "silent",
    "connection time-out": "silent", "timeout was reached": "silent", "timeouterror": "silent",
    "response timeout": "silent", "connectionreseterror": "wrong", "peer closed connection": "wrong",
}  # fmt: skip
_DISTRUST = re.compile(
    r"ssl certificate problem|certificate verify failed|certificate_verify_failed|"
    r"certificate verification: (?!ok)|certificate has expired|no alternative certificate subject name matches",
    re.I,
)
"""A client that does not take the server's certificate (public interface: OpenSSL's and GnuTLS's words)."""
_CONNECTED = re.compile(r"\bConnected to .{1,300} port [0-9]")
_OTHER_PROTOCOL = re.compile(r"\bHTTP/1\.[01] \d{3}\b|\bSSH-2\.0-")
_FOLDERS = ("CWD", "XCWD", "PWD", "XPWD", "CDUP")
FAILED: tuple[Outcome, ...] = ("refused", "silent", "wrong")
MOST_LINES, MOST_OF_REPLY = 100_000, 100


class NoSessionLog(ValueError):
    """The text is no log of a session, with the reason."""


@dataclass(slots=True)
class SessionTold:
    """How far a session came by its log: as a sighting has it, with the data ports that its replies named, and
    by which of them each transfer that came to its end went; -1 is one of which the log lacks the reply."""

    protocol: Literal["ftp", "sftp"] = "ftp"
    mode: Mode | None = None
    extended: bool | None = None
    secured: bool | None = None
    reached: Rung | None = None
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ()
    works: bool = False
    endpoints: list[Endpoint] = field(default_factory=list)
    carried: list[int] = field(default_factory=list)


def read_log(text: str, errors: Errors = ENGLISH) -> SessionTold:
    """What a log shows; ``errors`` are the words of systems for theirs. Raises NoSessionLog for a text in which no
    command, reply or error of a session stands."""
    lines = text.splitlines()
    if len(lines) > MOST_LINES:
        raise NoSessionLog(f"has {len(lines)} lines, of which at most {MOST_LINES} are read: cut it to one session")
    if any(_SSH.search(each) for each in lines):
        return _ssh(lines, _ErrorWords(errors))
    events = list(_events(lines, _ErrorWords(errors)))
    if not events:
        raise NoSessionLog("has no command and no reply of FTP in it, and nothing of SSH")
    return _Reading(events).log


@dataclass(frozen=True, slots=True)
class _Event:
    """A command, a reply, an error of the system, or a word of the client: that it is connected, that something else
    answers, that it does not trust the certificate."""

    verb: str = ""
    code: int = 0
    text: str = ""
    error: Outcome | None = None
    word: Literal["", "connected", "other", "distrust"] = ""


class _ErrorWords:
    """The words for errors, of all languages."""

    def __init__(self, errors: Errors) -> None:
        self._outcomes = tuple({**errors, **_NAMED}.items())

    def outcome_in(self, line: str) -> Outcome | None:
        """What the error is that a line names, if it names one."""
        lower = line.lower()
        return next((outcome for words, outcome in self._outcomes if words in lower), None)


def _reply_in(line: str) -> re.Match[str] | None:
    found = _REPLY.search(line)
    return found if found and int(found[1]) in _CODES else None


def _layouts(lines: list[str]) -> set[str]:
    """What stands before replies in this log, digits apart: what seldom does so is a number of something else."""
    before = Counter(_layout(line[: reply.start()]) for line in lines if (reply := _reply_in(line)))
    most = max(before.values(), default=0)
    return {layout for layout, count in before.items() if count * SELDOM >= most}


def _layout(prefix: str) -> str:
    return re.sub(r"[0-9]+", "#", prefix)


def _events(lines: list[str], errors: _ErrorWords) -> Iterator[_Event]:
    inside = 0
    layouts = _layouts(lines)
    for i, line in enumerate(lines):
        if i < inside:
            continue
        command, reply = _COMMAND.search(line), _reply_in(line)
        if reply and _layout(line[: reply.start()]) not in layouts:
            reply = None
        if reply and reply[2].startswith("-"):
            inside = _end_of_reply(reply[1], i, lines)
        if reply and (not command or reply.start() < command.start()):
            rest = line[reply.end() :].strip()
            yield _Event(code=int(reply[1]), text=_unwrapped(int(reply[1]), rest, lines[i + 1 : i + 3]))
        elif command:
            yield _Event(command[1])
        elif _DISTRUST.search(line):
            yield _Event(word="distrust")
        elif _CONNECTED.search(line):
            yield _Event(word="connected")
        elif _OTHER_PROTOCOL.search(line):
            yield _Event(word="other")
        elif error := errors.outcome_in(line):
            yield _Event(error=error)


def _end_of_reply(code: str, at: int, lines: list[str]) -> int:
    """Where a reply of several lines ends (RFC 959, section 4.2); where that line is missing, at the next one."""
    for i in range(at + 1, min(at + MOST_OF_REPLY, len(lines))):
        reply = _REPLY.search(lines[i])
        if reply and reply[1] == code and not reply[2].startswith("-"):
            return i + 1
    return at + 1


def _unwrapped(code: int, text: str, following: list[str]) -> str:
    """A passive reply with what was broken off at the edge of the screen."""
    if code not in (227, 229) or ")" in text or ("(" not in text and _SIX_NUMBERS.search(text)):
        return text
    layout = _BEFORE_NUMBERS if code == 227 else ""  # of the other, bars are part of what it states
    return text + "".join(each.strip().lstrip(layout) for each in following)


class _Reading:
    """The events of one session, one after the other."""

    def __init__(self, events: list[_Event]) -> None:
        self.log = SessionTold()
        self.asked = ""
        self.transfer: Rung | None = None
        self.opened = False
        for each in events:
            if each.code:
                self._reply(each)
            elif each.verb:
                self._command(each)
            elif each.error is not None:
                self._error(each.error)
            else:
                self._word(each.word)
        self._end()

    def _well(self, rung: Rung) -> None:
        self.log.reached, self.log.rung, self.log.outcomes = rung, None, ()

    def _ill(self, rung: Rung, *outcomes: Outcome) -> None:
        self.log.rung, self.log.outcomes = rung, outcomes

    def _command(self, event: _Event) -> None:
        log = self.log
        if event.verb in ("ABOR", "QUIT"):
            self._end()
        elif self.asked in _TRANSFERS and not self.opened and log.rung is None:
            self._well("data")  # a client goes on only once it was answered: the answer is missing here
        if not self.asked and event.verb == "USER":
            log.secured = False  # nothing was asked for before the name
        if event.verb in ("PBSZ", "PROT"):
            log.secured = True
        self.asked = event.verb
        if event.verb in ("PASV", "EPSV"):
            log.mode = "passive"
        elif event.verb in ("PORT", "EPRT"):
            log.mode, log.extended = "active", event.verb == "EPRT"
        elif event.verb in _TRANSFERS:
            self.transfer, self.opened = _TRANSFERS[event.verb], False
            if log.rung in ("data", "list", "send", "fetch"):
                log.rung, log.outcomes = None, ()

    def _reply(self, event: _Event) -> None:
        """Codes of one meaning count by themselves, since the command may be missing; others by what was asked."""
        log, code = self.log, event.code
        match code:
            case 234 | 334:
                log.secured = True
                self._well("secure")
            case 230 | 232:
                self._well("login")
            case 227 | 229:
                self._announced(event)
            case 125 | 150:
                self.opened = True
                self._well("data")
            case 226:
                self._carried()
            case 421:
                self._ill(_after(log.reached), *FAILED)
            case 425 if not self.opened:
                self._ill("data", *FAILED)
            case 425 | 426:
                self._ill(self.transfer or "list", *FAILED)
            case _:
                self._answered(code)

    def _answered(self, code: int) -> None:
        kind, log = code // 100, self.log
        if log.reached in (None, "connect") and not self.asked:
            self._well("greet") if kind in (1, 2) else self._ill("greet", "refused")
        elif self.asked == "AUTH" and kind in (4, 5):
            self._ill("secure", "refused")
        elif self.asked in ("USER", "PASS", "ACCT") and kind in (4, 5):
            self._ill("login", "refused")
        elif self.asked in ("PORT", "EPRT") and kind == 2:
            self._well("announce")
        elif self.asked in ("PASV", "EPSV", "PORT", "EPRT") and kind in (4, 5):
            self._ill("announce", "refused")
        elif self.transfer is not None and self.asked in _TRANSFERS and kind in (4, 5):
            self._ill(self.transfer, "refused")
        elif self.asked in _FOLDERS and kind in (4, 5):
            self._ill("list", "refused")
        elif self.asked in _FOLDERS and log.rung == "list" and not log.works:
            log.rung, log.outcomes = None, ()
        elif self.transfer is not None and self.asked in _TRANSFERS and code == 250:
            self._carried()

    def _carried(self) -> None:
        """A transfer came to its end."""
        self._well(self.transfer or "list")
        self.log.works = True
        self.log.carried.append(len(self.log.endpoints) - 1)
        self.asked, self.transfer = "", None

    def _announced(self, event: _Event) -> None:
        log, reply = self.log, Reply(event.code, (event.text,))
        log.mode, log.extended = "passive", event.code == 229
        self._well("announce")
        try:
            port = Endpoint("", extended_port(reply)) if log.extended else passive_endpoint(reply)
        except ProtocolFault:
            return
        log.endpoints.append(port)

    def _error(self, outcome: Outcome) -> None:
        log = self.log
        if log.reached in (None, "connect"):
            if log.rung is None:  # what follows the first error of a connection follows from it
                self._ill("connect" if log.reached is None else "greet", outcome)
        elif log.rung is None and self.asked in ("PASV", "EPSV", *_TRANSFERS) and not self.opened:
            self._ill("data", outcome)
        elif log.rung is None and self.transfer is not None and self.asked in _TRANSFERS:
            self._ill(self.transfer, outcome)
        elif log.rung == "data":
            log.outcomes = (outcome,)

    def _word(self, word: str) -> None:
        log = self.log
        if word == "distrust" and log.reached in ("connect", "greet", "secure", None):
            log.reached = "greet"  # the server began TLS, and the client went no further
            self._ill("secure", "wrong")
        elif word == "connected" and log.reached is None and log.rung is None:
            self._well("connect")
        elif word == "other" and log.reached in (None, "connect"):
            self._ill("greet", "wrong")

    def _end(self) -> None:
        """A transfer that was asked for, and of which nothing more was heard, did not come about."""
        log = self.log
        waiting = self.asked in _TRANSFERS and self.transfer is not None
        dialled = self.asked in ("PASV", "EPSV") and log.reached == "announce"
        if (waiting or dialled) and log.rung is None:
            self._ill(self.transfer or "list" if waiting and self.opened else "data", *FAILED)
        log.works = log.works and log.rung is None


def _after(reached: Rung | None) -> Rung:
    """The rung at which a server that hangs up is met."""
    following: dict[Rung | None, Rung] = {None: "greet", "greet": "login", "secure": "login", "login": "announce"}
    return following.get(reached, "list")


_SSH = re.compile(
    r"SSH-2\.0-|SSH2?_MSG_[A-Z]+|SSH2?_FXP?_[A-Z]+|SSH authentication methods available|establishing ssh session"
)
_SSH_SIGNS: tuple[tuple[re.Pattern[str], Rung, Outcome], ...] = (  # public interface: OpenSSH's words, RFC 4250's names
    (re.compile(r"SSH-2\.0-"), "greet", "ok"),
    (re.compile(r"SSH2?_MSG_NEWKEYS received"), "secure", "ok"),
    (re.compile(r"host key verification failed|REMOTE HOST IDENTIFICATION HAS CHANGED", re.I), "host-key", "wrong"),
    (re.compile(r"SSH2?_MSG_SERVICE_ACCEPT received"), "host-key", "ok"),
    (re.compile(r"SSH authentication methods available"), "host-key", "ok"),
    (re.compile(r"failed getting banner", re.I), "greet", "wrong"),
    (re.compile(r"SSH2?_MSG_USERAUTH_SUCCESS|\bAuthenticated (to|with)\b|\bAuthentication complete\b"), "login", "ok"),
    (
        re.compile(r"permission denied \(|too many authentication failures|\bauthentication failure\b", re.I),
        "login",
        "refused",
    ),
    (
        re.compile(r"subsystem request failed|SSH2?_FX_PERMISSION_DENIED|unable to request sftp subsystem", re.I),
        "list",
        "refused",
    ),
    (re.compile(r"SSH2?_FXP_NAME|\bReceived reply T:104\b"), "list", "ok"),
)


def _ssh(lines: list[str], errors: _ErrorWords) -> SessionTold:
    """The same of a session over SSH, by the names that its messages have (RFC 4250, section 4.1)."""
    log = SessionTold("sftp")
    for line in lines:
        for sign, rung, outcome in _SSH_SIGNS:
            if sign.search(line):
                if outcome == "ok":
                    log.reached, log.rung, log.outcomes = rung, None, ()
                else:
                    log.rung, log.outcomes = rung, (outcome,)
        error = errors.outcome_in(line)
        if error is not None and log.reached is None:
            log.rung, log.outcomes = "connect", (error,)
    log.works = log.reached == "list" and log.rung is None
    return log
