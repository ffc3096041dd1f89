"""The log of sessions, whichever client wrote it: how far each came, and how it ended.

Theory: sessions, not files
===========================
A file holds one session or many: a client connects again, runs are kept one behind the other, two are interleaved line
by line under a number each. A session begins with a greeting (220) where one is under way already, with a line that
announces a connection as the first did, or with a name after a farewell. What a session shows is read from its own
lines alone: a reply states of which command it is the answer only by coming next.

>>> (told,) = read_log('''
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
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Literal

from ...core.model.site import Mode
from ...core.observed.observation import FAILED
from ...core.values.addresses import address_or_none
from ...core.values.outcomes import Outcome, Rung
from ..ftp import Endpoint, ProtocolFault, Reply, extended_port, passive_endpoint
from .lines import ENGLISH, FOLDERS, OUTCOMES, TRANSFERS, Error, Errors, ErrorWords, LogEvent, events_of, said

MOST_LINES, MOST_SESSIONS, MOST_WORDS = 100_000, 500, 5


class NoSessionLog(ValueError):
    """The text is no log of a session, with the reason."""


@dataclass(slots=True)
class SessionTold:
    """How far a session came by its log: as an observation has it, with the data ports that its replies named, and
    by which of them each transfer that came to its end went; -1 is one of which the log lacks the reply. ``dialled`` is
    where the control connection went, ``data_dialled`` where the last data connection did, ``names`` what the client
    named in PORT or EPRT, ``replaced`` that it did not go to the address of the passive reply, ``waits`` that it asked
    for a transfer of which nothing more was heard. ``words`` are what was answered at the rung where it ended,
    ``error`` what the client's system called it, ``line`` where the log states that, ``user`` who logged in."""

    protocol: Literal["ftp", "sftp"] = "ftp"
    mode: Mode | None = None
    extended: bool | None = None
    secured: bool | None = None
    reached: Rung | None = None
    rung: Rung | None = None
    latest: Rung | None = None
    outcomes: tuple[Outcome, ...] = ()
    error: Error | None = None
    line: str = ""
    opened: bool = False
    works: bool = False
    endpoints: list[Endpoint] = field(default_factory=list)
    carried: list[int] = field(default_factory=list)
    dialled: tuple[str, int | None] | None = None
    data_dialled: str = ""
    names: str = ""
    user: str = ""
    waits: bool = False
    replaced: bool = False
    words: list[str] = field(default_factory=list)

    @property
    def shows_anything(self) -> bool:
        """Whether anything came of it."""
        return self.works or self.reached is not None or self.rung is not None or bool(self.outcomes)


def read_log(text: str, errors: Errors = ENGLISH) -> tuple[SessionTold, ...]:
    """The sessions of a log, of very many the last ones; ``errors`` are the words of systems for theirs. Raises
    NoSessionLog for a text in which no command, reply or error of a session stands."""
    lines = _in_order(text.splitlines()[-MOST_LINES:])
    words = ErrorWords(errors)
    found = [each for strand in _strands(lines) for each in read_sessions(strand, words)]
    if not found:
        raise NoSessionLog(
            "found no command or reply of FTP, nor of SSH; expected the log of a client, as of curl -v or sftp -v"
        )
    return tuple(found[-MOST_SESSIONS:])


def _in_order(lines: list[str]) -> list[str]:
    """The last word of curl (public interface) stands first where its two streams went to one file."""
    first = next((i for i, each in enumerate(lines) if each.strip()), 0)
    if lines and _LAST_WORD.match(lines[first]) and not any(_LAST_WORD.match(each) for each in lines[first + 1 :]):
        return [*lines[:first], *lines[first + 1 :], lines[first]]
    return lines


_LAST_WORD = re.compile(r"curl: \(\d{1,3}\) ")
_STRAND = re.compile(r"(?:\A|\s)[\[(<#](\w{0,6}\d{1,9})[\])>]")
MOST_STRANDS = 200


def _strands(lines: list[str]) -> list[list[str]]:
    """The lines of each session where several are interleaved under a number each (of a process or a connection)."""
    marks = [match[1] if (match := _STRAND.search(each[:80])) else "" for each in lines]
    counts = Counter(each for each in marks if each)
    numbered = sum(counts.values())
    if not 1 < len(counts) <= MOST_STRANDS or numbered * 10 < 9 * sum(bool(each.strip()) for each in lines):
        return [lines]
    strands = {mark: [line for line, own in zip(lines, marks, strict=True) if own == mark] for mark in counts}
    begin = [mark for mark, own in strands.items() if any(_BEGINS.search(line) for line in own)]
    return [strands[mark] for mark in begin] if len(begin) > 1 else [lines]


_BEGINS = re.compile(r"\b220[ -]|\bUSER\b|\bSSH-2\.0-")


def read_sessions(lines: list[str], words: ErrorWords) -> Iterator[SessionTold]:
    """The sessions of lines of which none are interleaved."""
    if any(_SSH.search(each) for each in lines):
        yield from _ssh_sessions(lines, words)
        return
    reading = _Reading()
    opening: set[str] = set()
    spoke = False
    for each in events_of(lines, words):
        if each.dials and not spoke:
            opening.add(each.text)
        spoke = spoke or bool(each.verb or each.code or each.error)
        if reading.is_over_before(each, opening):
            yield from reading.told()
            reading = _Reading()
        reading.take(each)
    yield from reading.told()


class _Reading:
    """The events of one session, one after the other."""

    def __init__(self) -> None:
        self.log = SessionTold()
        self.before: list[SessionTold] = []
        self.asked = ""
        self.transfer: Rung | None = None
        self.opened = False
        self.ended = self.mismatched = self.asks_tls = self.hung_up = self.no_data = False
        self.option = False

    def take(self, each: LogEvent) -> None:
        """What an event adds; after the server has hung up, nothing does."""
        if self.hung_up:
            return
        if each.code:
            self._reply(each)
        elif each.verb:
            self._command(each)
        elif each.error is not None:
            self._error(each)
        else:
            self._word(each)

    def told(self) -> Iterator[SessionTold]:
        """The session, if anything came of it, and before it what was tried in passive mode first."""
        self._end()
        yield from self.before
        if self.log.shows_anything:
            yield self.log

    def is_over_before(self, each: LogEvent, opening: set[str]) -> bool:
        """Whether an event belongs to the next session already."""
        begun = self.log.shows_anything
        if each.code == 220:
            answers = self.asked == "HOST"  # RFC 7151, section 3.2
            return begun and not answers and (bool(self.asked) or self.ended)
        if each.dials and each.text in opening:
            own_port = self.log.dialled[1] if self.log.dialled else None
            again = None in (own_port, each.dials[1]) or each.dials[1] == own_port  # else it is for data
            return begun and again and (self.ended or self.log.rung is not None)
        return each.verb == "USER" and self.ended

    def _well(self, rung: Rung) -> None:
        log = self.log
        log.reached, log.rung, log.latest, log.outcomes, log.opened = rung, None, None, (), False
        log.error, log.line = None, ""
        log.words.clear()

    def _ill(self, rung: Rung, *outcomes: Outcome, words: str = "") -> None:
        self.log.rung, self.log.outcomes, self.log.opened, self.log.error = rung, outcomes, self.opened, None
        self._heard(words)

    def _heard(self, words: str) -> None:
        if words and words not in self.log.words and len(self.log.words) < MOST_WORDS:
            self.log.words.append(words)

    def _command(self, event: LogEvent) -> None:
        log = self.log
        if event.verb in ("ABOR", "QUIT") and self.mismatched and log.rung is None:
            self._ill("data", *FAILED)
            log.latest = "list"
        if event.verb in ("ABOR", "QUIT"):
            self._end()
            self.ended = self.ended or event.verb == "QUIT"
        elif self.asked in TRANSFERS and not self.opened and log.rung is None:
            self._well("data")  # a client goes on only once it was answered: the answer is missing here
        if event.verb == "USER" and not self.asks_tls and (log.reached == "greet" or not self.asked):
            log.secured = False  # TLS was not asked for before the name
        self.asks_tls = self.asks_tls or event.verb == "AUTH"
        if event.verb in ("USER", "PASS", "PBSZ", "PROT") and log.rung == "secure":
            self._went_on()
        if event.verb == "USER":
            log.user = event.text
        if event.verb in ("PBSZ", "PROT"):
            log.secured = True
        self.asked = event.verb
        if event.verb in ("PASV", "EPSV"):
            log.mode = "passive"
        elif event.verb in ("PORT", "EPRT"):
            if log.mode == "passive" and "announce" in (log.reached, log.rung):
                self._gave_up_passive()
            log.mode, log.extended = "active", event.verb == "EPRT"
            log.names = _named_address(event)
        elif event.verb in TRANSFERS:
            self.transfer, self.opened = TRANSFERS[event.verb], False
            self.option = event.text.startswith("-")
            if log.rung in ("data", "list", "send", "fetch") and not self.no_data:
                log.rung, log.latest, log.outcomes, log.opened = None, None, (), False
                log.words.clear()

    def _went_on(self) -> None:
        """A client that goes on after trouble with TLS was only warned, or does without."""
        if "wrong" in self.log.outcomes:
            self._well("secure")
        else:
            self.log.rung, self.log.outcomes = None, ()

    def _reply(self, event: LogEvent) -> None:
        """Codes of one meaning count by themselves, since the command may be missing; others by what was asked."""
        log, code = self.log, event.code
        words = event.text if event.bare else f"{code} {event.text}".strip()
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
            case 226 if event.bare:
                if self.transfer is not None and log.rung is None:  # a program's sum undoes no error before it
                    self._carried()
            case 226 if self.asked != "ABOR":
                self._carried()
            case 221:
                self.ended = True
            case 421:
                self.ended = self.hung_up = True
                if self.asked != "QUIT" and log.rung is None:
                    log.latest = "fetch" if log.reached is None and log.dialled is None and not self.asked else None
                self._ill(_after(log.reached), *FAILED, words=words)
            case 425 if log.rung == "data" and log.error:
                self._heard(words)  # how it failed, the client has said itself
            case 425 if not self.opened and self.asked not in ("PASV", "EPSV", "PORT", "EPRT"):
                self._ill("data", *FAILED, words=words)
                log.latest = "list"  # or it was made, and the server took it for somebody else's
            case 426 | 425 if self.opened:
                self._ill(self.transfer or "list", *FAILED, words=words)
            case _:
                self._answered(code, words)

    def _gave_up_passive(self) -> None:
        """A client that goes on in active mode had no data connection in passive mode, or was refused it."""
        log = self.log
        outcomes, rung = log.outcomes or FAILED, log.rung or "data"
        tried = replace(log, rung=rung, outcomes=outcomes, works=False)
        self.before.append(replace(tried, endpoints=log.endpoints[-1:], carried=[], words=list(log.words)))
        log.rung, log.outcomes, log.reached, log.data_dialled, log.error, log.line = None, (), "login", "", None, ""
        log.words.clear()

    def _answered(self, code: int, words: str) -> None:
        kind, log = code // 100, self.log
        no_greeting = code in _BY_CODE and code not in _INSTEAD_OF_A_GREETING
        if log.reached is None and not self.asked and kind in (4, 5) and (no_greeting or log.dialled is None):
            self._alone(code, words)
        elif log.reached in (None, "connect") and not self.asked:
            self._well("greet") if kind in (1, 2) else self._ill("greet", "refused", words=words)
        elif self.asked == "AUTH" and kind in (4, 5):
            self._ill("secure", "refused", words=words)
        elif self.asked in ("USER", "PASS", "ACCT") and kind in (4, 5):
            self._ill("login", "refused", words=words)
        elif log.rung == "login" and kind in (4, 5):
            return  # who was not let in is refused whatever else they ask for
        elif self.asked in ("PORT", "EPRT", "PASV", "EPSV") and kind == 2:
            self.no_data = False
            self._well("announce")
        elif code == 200 and not self.asked and _ACTIVE_ACCEPTED.search(words):
            log.mode = "active"  # a program that does not show its commands
            self._well("announce")
        elif self.asked in ("PASV", "EPSV", "PORT", "EPRT") and kind in (4, 5):
            self._ill("announce", "refused", words=words)
        elif self.transfer is not None and self.asked in TRANSFERS and kind in (4, 5):
            if self.option and _NO_SUCH_FILE.search(words):
                self.asked, self.transfer = "", None  # it took the option for a file, which is no trouble of the site
            elif log.mode == "active" and not self.opened:
                self._ill("data", "refused", words=words)
                log.latest = "list"  # what is asked for is refused before any data connection
            else:
                self._ill(self.transfer, "refused", words=words)
        elif self.asked in FOLDERS and kind in (4, 5):
            self._ill("list", "refused", words=words)
        elif self.asked in FOLDERS and log.rung == "list" and not log.works:
            log.rung, log.outcomes = None, ()
        elif self.transfer is not None and self.asked in TRANSFERS and code == 250:
            self._carried()

    def _alone(self, code: int, words: str) -> None:
        """A refusal of which nobody knows what was asked, but by what it names and by its code."""
        log, named = self.log, _NAMED.search(words)
        if named is None:
            rung, log.latest = _BY_CODE.get(code, ("greet", "fetch"))
        else:
            rung, log.latest = _OF_COMMAND[named[0]], None
            log.mode = _MODE_OF.get(named[0], log.mode)
        if code == 522 and _OTHER_FAMILY.search(words):
            rung, log.latest = "announce", None
        self._ill(rung, "refused", words=words)

    def _carried(self) -> None:
        """A transfer came to its end."""
        self._well(self.transfer or "list")
        self.log.works = True
        self.log.carried.append(len(self.log.endpoints) - 1 if self.log.mode != "active" else -1)
        self.asked, self.transfer = "", None

    def _announced(self, event: LogEvent) -> None:
        log, reply = self.log, Reply(event.code, (event.text,))
        log.mode, log.extended = "passive", event.code == 229
        self.no_data = False
        self._well("announce")
        try:
            port = Endpoint("", extended_port(reply)) if log.extended else passive_endpoint(reply)
        except ProtocolFault:
            return
        log.endpoints.append(port)

    def _error(self, event: LogEvent) -> None:
        log = self.log
        assert event.error is not None
        for_data = self.asked in ("PASV", "EPSV", *TRANSFERS)
        outcomes = FAILED if event.connected and for_data else OUTCOMES[event.error]
        made = event.connected or event.error == "cut"  # what was never made is not cut off
        not_shown = log.reached is None and log.dialled is None and not self.asked
        if made and log.reached is None and log.rung is None:
            self._well("connect")
        if log.reached in (None, "connect"):
            self.ended = True
            if log.rung is not None:
                return  # what follows the first error of a connection follows from it
            self._ill("connect" if log.reached is None else "greet", *outcomes)
            if log.reached is None:
                later: Rung = "fetch" if not_shown else "greet"
                log.latest = later if event.vague else None
            elif not_shown:
                log.latest = "fetch"  # a program that prints nothing but its last error
        elif log.rung is None and log.reached in ("greet", "secure") and self.asked in ("AUTH", "USER", "PASS"):
            self._ill("secure" if self.asked == "AUTH" else "login", *outcomes)
            self.ended = True
        elif log.rung is None and for_data and not self.opened:
            self._ill("data", *outcomes)
            log.latest = "list" if event.connected else None  # it was made, maybe, and the server took no notice
            self.ended = self.no_data = True
        elif log.rung is None and self.transfer is not None and self.asked in TRANSFERS:
            self._ill(self.transfer, *outcomes)
            self.ended = True
        elif log.rung == "data" and len(log.outcomes) > len(outcomes) and not log.words:
            log.outcomes = outcomes
        else:
            return
        log.error, log.line = event.error, event.text

    def _word(self, event: LogEvent) -> None:
        log = self.log
        own = event.dials is not None and event.dials == log.dialled  # what a client shows of its control connection
        if event.dials is not None and log.reached in (None, "connect") and log.rung is None:
            known = log.dialled is not None and log.dialled[1] is not None
            log.dialled = log.dialled if known and event.dials[1] is None else event.dials
        elif event.dials is not None and self.asked in ("PASV", "EPSV") and log.rung is None and not own:
            log.data_dialled = event.dials[0]
        if event.word == "distrust" and log.reached in ("connect", "greet", "secure", None):
            log.reached = "greet"  # the server began TLS, and the client went no further
            self._ill("secure", "wrong", words=event.text)
        elif event.word == "tls" and log.reached == "secure" and self.asked in ("USER", "PASS", "ACCT"):
            if log.rung is None:
                self._ill("login", "wrong", words=event.text)  # a server that gives up says so in clear
        elif event.word == "tls" and self.asked in TRANSFERS and not self.opened and log.rung is None:
            self._ill("data", *FAILED, words=event.text)
            log.latest = "list"  # it was made, maybe, and cut off, or TLS on it failed
        elif event.word == "tls" and log.reached in ("connect", "greet", "secure", None) and not log.words:
            log.reached = log.reached if log.reached != "secure" else "greet"
            self._ill("secure", "wrong", words=event.text)
        elif event.word in ("distrust", "tls") and log.rung == "secure":
            self._heard(event.text)
        elif event.word == "name" and log.reached is None and log.rung is None:
            self._ill("name", "refused", words=event.text)
            self.ended = True
        elif event.word == "replaced" or (event.word == "aside" and self._reply_is_private()):
            log.replaced = True  # and a private address is all that there is to say something about
        elif event.word in ("passive", "active") and log.reached is None and log.rung is None:
            log.mode, self.asked = event.word, "PASV" if event.word == "passive" else "LIST"
            self._well("announce")  # in active mode the server is asked for the transfer before it connects
            self.transfer = "list"
        elif event.word == "mismatch":
            self.mismatched = True
        elif event.word == "connected" and log.reached is None and log.rung is None:
            self._well("connect")
        elif event.word == "other" and log.reached in (None, "connect"):
            self._ill("greet", "wrong")

    def _reply_is_private(self) -> bool:
        """Whether the last passive reply named an address that is of a private network."""
        address = address_or_none(self.log.endpoints[-1].address) if self.log.endpoints else None
        return address is not None and address.kind == "private"

    def _end(self) -> None:
        """A transfer that was asked for, and of which nothing more was heard, did not come about."""
        log = self.log
        waiting = self.asked in TRANSFERS and self.transfer is not None
        dialled = self.asked in ("PASV", "EPSV") and log.reached == "announce"
        if (waiting or dialled) and log.rung is None and not self.hung_up:
            self._ill(self.transfer or "list" if waiting and self.opened else "data", *FAILED)
        log.waits = waiting
        log.works = log.works and log.rung is None


_BY_CODE: dict[int, tuple[Rung, Rung | None]] = {
    **dict.fromkeys((430, 530), ("login", None)), **dict.fromkeys((452, 532, 552, 553), ("send", None)),
    **dict.fromkeys((431, 533, 534, 535, 536), ("secure", None)),
    **dict.fromkeys((500, 502, 504), ("secure", "announce")), 501: ("secure", "fetch"), 503: ("login", "fetch"),
    **dict.fromkeys((426, 450, 451, 521, 522, 550, 551), ("list", "fetch")),
}  # fmt: skip
"""Between which rungs a server is that refuses with a code, where a log has nothing else (RFC 959, sections 4.2.1 and
5.4; RFC 2228, section 4; RFC 4217, sections 9 and 10: none of them is a greeting)."""
_INSTEAD_OF_A_GREETING = range(500, 505)
"""Codes with which a server that cannot begin a session may greet."""
_OF_COMMAND: dict[str, Rung] = {
    **dict.fromkeys(("PORT", "EPRT", "PASV", "EPSV"), "announce"), **dict.fromkeys(("AUTH", "PBSZ", "PROT"), "secure"),
    **dict.fromkeys(("USER", "PASS"), "login"), **dict.fromkeys(("CWD", "LIST", "NLST", "MLSD"), "list"),
    **dict.fromkeys(("STOR", "APPE"), "send"), "RETR": "fetch",
}  # fmt: skip
_MODE_OF: dict[str, Mode] = {"PORT": "active", "EPRT": "active", "PASV": "passive", "EPSV": "passive"}
_NAMED = re.compile(rf"\b(?:{'|'.join(_OF_COMMAND)})\b(?! setting)")
"""The command that a refusal is about; a setting of PROT is about the data connection (RFC 4217, section 9)."""
_OTHER_FAMILY = re.compile(r"\buse \(")
"""The families of addresses that a server takes (RFC 2428, section 2)."""
_NO_SUCH_FILE = re.compile(r"no such file|not found|file existence|can't find", re.I)
_ACTIVE_ACCEPTED = re.compile(r"\b(?:PORT|EPRT) command")


def _after(reached: Rung | None) -> Rung:
    """The rung at which a server that hangs up is met."""
    following: dict[Rung | None, Rung] = {
        None: "greet",
        "connect": "greet",
        "greet": "login",
        "secure": "login",
        "login": "announce",
    }
    return following.get(reached, "list")


def _named_address(event: LogEvent) -> str:
    """The address behind PORT (RFC 959, section 4.1.2) or EPRT (RFC 2428, section 2); empty where there is none."""
    if event.verb == "EPRT":
        parts = event.text.split(event.text[:1]) if event.text else []
        return parts[2] if len(parts) > 3 else ""
    numbers = event.text.split(",")
    return ".".join(each.strip() for each in numbers[:4]) if len(numbers) == 6 else ""


_SSH = re.compile(
    r"SSH-2\.0-|SSH2?_MSG_[A-Z]+|SSH2?_FXP?_[A-Z]+|SSH authentication methods available|establishing ssh session|"
    r"kex_exchange_identification|to the list of known hosts|\bdebug[123]: |\bssh: connect to host\b"
)
_SSH_DIALS = re.compile(r"Connecting to (\S{1,255}) \[([0-9A-Fa-f:.]{2,45})\] port (\d{1,5})")
_SSH_SIGNS: tuple[tuple[re.Pattern[str], Rung, Outcome], ...] = (  # public interface: OpenSSH's words, RFC 4250's names
    (re.compile(r"debug1: Connection established"), "connect", "ok"),
    (re.compile(r"(?<!Local version string )SSH-2\.0-|Remote protocol version 2"), "greet", "ok"),
    (
        re.compile(r"failed getting banner|kex_exchange_identification|invalid ssh identification", re.I),
        "greet",
        "wrong",
    ),
    (re.compile(r"unable to negotiate|no matching (?:key exchange|host key|cipher|mac)", re.I), "secure", "refused"),
    (re.compile(r"SSH2?_MSG_NEWKEYS received"), "secure", "ok"),
    (re.compile(r"SSH2?_MSG_SERVICE_ACCEPT received"), "host-key", "ok"),
    (re.compile(r"SSH authentication methods available"), "host-key", "ok"),
    (
        re.compile(r"host key verification failed|HOST IDENTIFICATION HAS CHANGED|host key mismatch", re.I),
        "host-key",
        "wrong",
    ),
    (re.compile(r"SSH2?_MSG_USERAUTH_SUCCESS|\bAuthenticated (to|with)\b|\bAuthentication complete\b"), "login", "ok"),
    (
        re.compile(r"permission denied \(|too many authentication failures|\bauthentication failure\b", re.I),
        "login",
        "refused",
    ),
    (
        re.compile(
            r"subsystem request failed|SSH2?_FX_PERMISSION_DENIED|unable to request sftp subsystem|"
            r"SSH2?_FX_NO_SUCH_FILE|unable to initialize sftp|message too long",
            re.I,
        ),
        "list",
        "refused",
    ),
    (re.compile(r"SSH2?_FXP_NAME|\bReceived reply T:104\b"), "list", "ok"),
    (re.compile(r"\bConnection #\d{1,9} to host \S{1,255} left intact"), "list", "ok"),
)
_SSH_CLOSED = re.compile(
    r"\bConnection (?:closed|reset) by |\bclient_loop: send disconnect|\bConnection closed\b", re.I
)
_SSH_DONE = re.compile(r"\bExit status 0\b")
_SSH_NEXT: dict[Rung | None, Rung] = {
    None: "greet", "connect": "greet", "greet": "secure", "secure": "host-key", "host-key": "login", "login": "list",
}  # fmt: skip


def _ssh_sessions(lines: list[str], errors: ErrorWords) -> Iterator[SessionTold]:
    """Sessions over SSH: each begins with what the first line of the log begins with."""
    starts = [0]
    for i, line in enumerate(lines):
        if _SSH_DIALS.search(line) and any(_SSH_DIALS.search(each) for each in lines[starts[-1] : i]):
            starts.append(i)
    for start, end in zip(starts, [*starts[1:], len(lines)], strict=True):
        yield _ssh(lines[start:end], errors)


def _ssh(lines: list[str], errors: ErrorWords) -> SessionTold:
    """The same of one session, by the names that its messages have (RFC 4250, section 4.1)."""
    log = SessionTold("sftp")
    for line in lines:
        for sign, rung, outcome in _SSH_SIGNS:
            if sign.search(line):
                _ssh_came(log, rung, outcome, line)
        if dials := _SSH_DIALS.search(line):
            log.dialled = dials[2], int(dials[3])
        error = errors.error_in(line)
        if error is not None and log.reached is None and log.rung is None:
            _ssh_came(log, "connect", OUTCOMES[error][0], line)
            log.error = error
        elif _SSH_CLOSED.search(line) and log.rung is None and log.reached in _SSH_NEXT:
            _ssh_came(log, _SSH_NEXT[log.reached], "wrong", line)
        elif _SSH_DONE.search(line) and log.rung is None and log.reached == "login":
            log.reached = "list"
    log.works = log.reached == "list" and log.rung is None
    return log


def _ssh_came(log: SessionTold, rung: Rung, outcome: Outcome, line: str) -> None:
    if outcome == "ok":
        log.reached, log.rung, log.outcomes = rung, None, ()
        log.words.clear()
    else:
        log.rung, log.outcomes = rung, (outcome,)
        if len(log.words) < MOST_WORDS:
            log.words.append(said(line))
