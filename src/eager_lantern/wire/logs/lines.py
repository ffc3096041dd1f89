"""The lines of a client's log as events: commands, replies, errors, and where it connects to.

Theory: what all logs have in common
====================================
Clients write their logs in many layouts and languages: with time stamps, arrows, words before each line. What they do
not make up themselves is the same in all: a command is one of the verbs of RFC 959, 2228, 2428, 3659 and 4217, a reply
has three digits and then a space or a hyphen (RFC 959, section 4.2), an address is an address. So of every line the
first command or reply counts, and all before it is layout. A line with neither is talk of the client, or the rest of a
reply that was wrapped; of talk only the names count that operating systems have for errors, and the addresses.

>>> lines = ["* Trying 198.51.100.61:21...", "10:31 < 220 Tides", "10:31 > USER station"]
>>> [(each.verb, each.code, each.dials) for each in events_of(lines, ErrorWords(ENGLISH))]
[('', 0, ('198.51.100.61', 21)), ('', 220, None), ('USER', 0, None)]
"""

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from ...core.observed.observation import FAILED
from ...core.values.addresses import address_or_none
from ...core.values.outcomes import Outcome, Rung
from ..terminal_safe import printable

TRANSFERS: Mapping[str, Rung] = {
    "LIST": "list", "NLST": "list", "MLSD": "list", "STOR": "send", "STOU": "send", "APPE": "send", "RETR": "fetch",
}  # fmt: skip
FOLDERS = ("CWD", "XCWD", "PWD", "XPWD", "CDUP")
_VERBS = (
    "USER", "PASS", "ACCT", "AUTH", "PBSZ", "PROT", "CCC", "PASV", "EPSV", "PORT", "EPRT", "TYPE", *FOLDERS, "SYST",
    "FEAT", "OPTS", "NOOP", "HOST", "LANG", "CLNT", "SITE", "ALLO", "RNFR", "RNTO", "MFMT", "QUIT", "ABOR", "SIZE",
    "MDTM", "REST", "DELE", "MKD", "RMD", "STAT", "HELP", *TRANSFERS,
)  # fmt: skip
_COMMAND = re.compile(
    rf"(?:(?<![A-Za-z0-9_\"'“(])|(?<=\*cmd\* ['\"]))({'|'.join(_VERBS)})(?=[\s'\"]|$)(?! response\b)"
    r"[ \t]?([^\r\n'\"]{0,200})"
)
"""A verb and what follows; in quotes it is one only where a log says so (public interface: Python's ftplib writes
``*cmd* 'LIST'``)."""
_REPLY = re.compile(
    r"(?<![0-9A-Za-z.,/+_-])(?<![0-9]:)(?<!rrno )([1-5][0-5][0-9])(?! ms\b)"
    r"([ -](?=\S)|[:\]] (?=\S)|(?<=\(\d{3})\) (?=\S)|[ -]?$)"
)
_QUOTED_END = re.compile(r"(?:\\[rn]){1,4}['\"]?\Z|['\"]\Z")
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
Error = Literal[
    "connection refused", "no route to host", "network is unreachable", "timeout", "cut", "no answer", "any"
]
"""What a system reports of a connection: a reset, one of two kinds of ICMP messages (RFC 1122, section 3.2.2.1),
silence, an end in the middle, either of both, or whatever."""
OUTCOMES: Mapping[Error, tuple[Outcome, ...]] = {
    "connection refused": ("refused",), "no route to host": ("refused",), "network is unreachable": ("refused",),
    "timeout": ("silent",), "cut": ("wrong",), "no answer": ("silent", "wrong"), "any": FAILED,
}  # fmt: skip
Errors = Mapping[str, Error]
"""What systems call their errors, in small letters."""
_TEXTS: Mapping[Error, tuple[str, ...]] = {  # public interface: POSIX strerror
    "connection refused": ("connection refused",),
    "no route to host": ("no route to host",),
    "network is unreachable": ("network is unreachable",),
    "timeout": ("connection timed out",),
    "cut": ("connection reset by peer", "broken pipe"),
}
ENGLISH: Errors = {text: error for error, texts in _TEXTS.items() for text in texts}
_IN_PROGRAMS: Mapping[Error, tuple[str, ...]] = {  # public interface: what programs write beside the system's words
    "connection refused": ("econnrefused", "connectionrefusederror", "connection refused"),
    "no route to host": ("ehostunreach",),
    "network is unreachable": ("enetunreach",),
    "timeout": (
        "etimedout", "timed out", "timeout - reconnecting", "connection time-out", "timeout was reached",
        "timeouterror", "response timeout", "connection timeout",
        "timeout detected", "i/o timeout", "curl: (28)",
    ),
    "cut": (
        "connectionreseterror", "peer closed connection", "connection closed by server", "unexpected eof", "eoferror",
        "closed by remote host", "closed by foreign host", "connection broke down", "response reading failed",
    ),
    "no answer": ("error in server response",),
}  # fmt: skip
_ON_WINDOWS: Mapping[Error, tuple[str, ...]] = {  # public interface: Winsock's messages, in English and German
    "connection refused": ("actively refused it", "zielcomputer die verbindung verweigerte"),
    "no route to host": ("to an unreachable host",),
    "network is unreachable": ("to an unreachable network",),
    "timeout": (
        "did not properly respond after a period of time", "nach einer bestimmten zeitspanne nicht richtig reagiert",
        "verbindungszeitüberschreitung",
    ),
    "cut": (
        "forcibly closed by the remote host", "aborted by the software in your host machine",
        "vom remotehost geschlossen",
    ),
}  # fmt: skip
_NAMED: Errors = {
    text: error for known in (_IN_PROGRAMS, _ON_WINDOWS) for error, texts in known.items() for text in texts
}
_BY_NUMBER: Mapping[str, Error] = {  # public interface: the numbers of Windows' socket errors, in every language
    "10061": "connection refused",
    "10065": "no route to host",
    "10051": "network is unreachable",
    "10060": "timeout",
    "10053": "cut",
    "10054": "cut",
}
_NUMBER = re.compile(
    rf"(?:err(?:or|no|eur)|fehler|code|wsa\w{{0,20}}|#)[\s:=#(\[]{{1,3}}({'|'.join(_BY_NUMBER)})\b", re.I
)
"""One of them behind a word for errors; elsewhere it may be a port."""
_AT_ANY_RUNG = re.compile(
    r"timeout - reconnecting|time-out|^timeouterror|response timeout|operation has timed out", re.I
)
"""Words for a timeout that do not state whether a connection was made."""
_ONCE_CONNECTED = re.compile(
    r"with \d{1,12} (?:out of \d{1,12} )?bytes received|reply from control connection|waiting for server response|"
    r"reader\.readline\(\)|\b(?:recv|read)\(\) timed out|error in server response",
    re.I,
)
"""Words of who waits for a reply, so that the connection was made (public interface: libcurl, ncftp, asyncio)."""
_DISTRUST = re.compile(
    r"ssl certificate problem|certificate verify failed|certificate_verify_failed|"
    r"certificate verification: (?!ok)|certificate has expired|no alternative certificate subject name matches|"
    r"certificate is not trusted|self[- ]signed certificate|alert:? (?:unknown ca|certificate expired|bad certificate)",
    re.I,
)
"""A client that does not take the server's certificate (public interface: OpenSSL's and GnuTLS's words)."""
_TLS_FAILED = re.compile(
    r"wrong.version.number|no shared cipher|unsupported protocol|tlsv?1? alert(?!, close notify)|handshake failure|"
    r"unexpected tls packet|error in the pull function|fatal error: gnutls_handshake|ssl_connect|ssl routines",
    re.I,
)
"""TLS that does not come about (public interface: the same libraries)."""
_NO_NAME = re.compile(
    r"could not resolve|couldn't resolve|name or service not known|unknown host|getaddrinfo failed|"
    r"nodename nor servname|temporary failure in name resolution|no address associated|host name lookup failure|"
    r"name not found|no such host|enotfound|eai_again",
    re.I,
)
"""A name that leads nowhere (public interface: the resolver's words, and those of programs)."""
_CONNECTED = re.compile(
    r"\bConnected to .{1,300} port [0-9]|^Connected to \S{1,255}\.$|\bself\.welcome = self\.getresp\(\)|"
    r"connected\. ?$"
)
_STEP = re.compile(r"==> ([A-Z]{3,4})\b((?:(?!==> ).){0,300})")
_STEP_FAILED = re.compile(r"\bfailed\b(?: \((.{0,200}?)\)?\.? ?$)?")
"""A program that shows its commands with what became of each, and no codes (public interface: wget and wput)."""
_LET_IN = re.compile(
    r"^Logging in as (\S{1,64}) \.\.\.(?: (Logged in!|.{0,40}Login-Sequence failed(?: \((.{1,200})\))?))?"
)
_GREETED = re.compile(r"(?:^|connected)! ?$|connectedConnection failed \((.{1,200})\)$")
_SAVED = re.compile(r"\bsaved \[\d|^Transferred [1-9]\d{0,17} bytes in [1-9]")
_NOT_CONNECTED = re.compile(
    r"^Connecting to \S{1,255}\.\.\. failed!|^connection failed\.$|^curl: \(7\) Failed to connect to \S{1,255} port \d"
)
_FOR_DATA = re.compile(r", in ntransfercmd$")
"""Where a program that stopped wanted a data connection (public interface: the traceback of Python's ftplib)."""
_IN_ERROR = re.compile(r"error|fehler|erreur", re.I)
"""Before a passive reply: a program that shows the last reply where the data connection failed."""
_OTHER_PROTOCOL = re.compile(r"\bHTTP/1\.[01] \d{3}\b|\bSSH-2\.0-")
_REPLACED = re.compile(
    r"server address instead|unroutable address|address .{0,60}has been fixed|for data connection, uses", re.I
)
"""A client that goes to the server's own address and not to that of the passive reply."""
_MISMATCH = re.compile(r"address mismatch", re.I)
"""A client that goes nowhere for such a reply."""
_SECRET = re.compile(
    r"([A-Za-z0-9._%+-]{1,64}:)[^\s:@/]{1,200}(?=@)|"
    r"((?:pass(?:word|wd|phrase)?|secret|token|key)[\"']?\s{0,3}[=:]\s{0,3})\S{1,200}|"
    r"(\blogin\s{1,3}\S{1,64}\s{1,3}password\s{1,3})\S{1,200}",
    re.I,
)
"""A password as addresses (RFC 3986, section 3.2.1), settings and netrc files have it."""
_FOUR = r"(?:\d{1,3}\.){3}\d{1,3}"
_SIX = r"\[?[0-9A-Fa-f]{0,4}:[0-9A-Fa-f:]{2,39}\]?"
_DIALS = re.compile(rf"(?<![\w.:=@/])({_FOUR}|{_SIX})(?!\w|\.\d)")
_SIX_AND_PORT = re.compile(r"([0-9A-Fa-f:]{3,39}):(21|22|990|2121)")
"""An IPv6 address with a port behind it, without the brackets that part them."""
_PORT_AFTER = re.compile(r"\A[^\d\n]{0,16}?(\d{1,5})\b")
MOST_OF_REPLY = 100
MOST_OF_WORDS = 200


@dataclass(frozen=True, slots=True)
class LogEvent:
    """A command with what follows it, a reply, an error of the system (``vague`` where it does not state whether a
    connection was made, ``connected`` where it states that one was), where the client connects to, or a word of the
    client: that it is connected, that it wanted a data connection, that something else answers, that it does not trust
    the certificate, that TLS failed, that it goes to another address than the reply names, or that it says something
    between a passive reply and what follows (``aside``). ``text`` is what stands behind a reply's code (``bare`` where
    the log has it without the code), or the line that a word was found in; of a line that states where it connects to,
    what is no number of it."""

    verb: str = ""
    code: int = 0
    text: str = ""
    error: Error | None = None
    vague: bool = False
    bare: bool = False
    connected: bool = False
    dials: tuple[str, int | None] | None = None
    word: Literal[
        "", "name", "connected", "other", "distrust", "tls", "replaced", "mismatch", "aside", "passive", "active"
    ] = ""


class ErrorWords:
    """The words for errors, of all languages."""

    def __init__(self, errors: Errors) -> None:
        self._named = tuple({**errors, **_NAMED}.items())

    def error_in(self, line: str) -> Error | None:
        """The error that a line names, if it names one."""
        lower = line.lower()
        found = next((error for words, error in self._named if words in lower), None)
        numbered = _NUMBER.search(line) if found is None else None
        return _BY_NUMBER[numbered[1]] if numbered else found


def events_of(lines: list[str], errors: ErrorWords) -> Iterator[LogEvent]:
    """What the lines of one session state, one event a line at most."""
    inside = 0
    layouts, complains = _layouts(lines), _label_of_complaints(lines)
    for i, line in enumerate(lines):
        if i < inside:
            continue
        if steps := list(_steps(line, errors)):
            yield from steps
            continue
        command, reply = _COMMAND.search(line), _reply_in(line)
        if reply and _layout(line[: reply.start()]) not in layouts:
            reply = None
        if reply and reply[2].startswith("-"):
            inside = _end_of_reply(reply[1], i, lines)
        if reply and (not command or reply.start() < command.start()):
            if int(reply[1]) in (227, 229) and _IN_ERROR.search(line[: reply.start()]):
                yield LogEvent("PASV")
            rest = _QUOTED_END.sub("", line[reply.end() :].strip())
            yield LogEvent(code=int(reply[1]), text=said(_unwrapped(int(reply[1]), rest, lines[i + 1 : i + 3])))
        elif command:
            yield LogEvent(command[1], text="" if command[1] == "PASS" else command[2].strip())
        elif _FOR_DATA.search(line) and (how := _way_of_data("".join(lines[i + 1 : i + 2]))):
            yield LogEvent(word=how)
        elif talk := _talk(line, errors):
            yield talk
        elif _is_aside(i, lines):
            yield LogEvent(word="aside")
        elif complains and _label(line) == complains:
            yield LogEvent(error="any", text=said(line), vague=True)


_LABEL = re.compile(r"(?:\A|\s)([^\W\d_]{2,20})\s?[:\uff1a]\s")
"""The word before each line in the log of a program's window, in the program's language."""


def _way_of_data(line: str) -> Literal["", "passive", "active"]:
    """How a program waits for a data connection, by the line of it that did not come to its end."""
    return "passive" if "create_connection" in line else "active" if ".accept()" in line else ""


def _label(line: str) -> str:
    found = _LABEL.search(line[:60])
    return found[1] if found else ""


def _is_aside(at: int, lines: list[str]) -> bool:
    """Whether a line right after a passive reply has the label of the program's own words, which are the first of
    such a log."""
    reply = _reply_in(lines[at - 1]) if at else None
    if reply is None or reply[1] != "227":
        return False
    own = next(filter(None, map(_label, lines)), "")
    return own != "" and own == _label(lines[at]) != _label(lines[at - 1]) != ""


def _label_of_complaints(lines: list[str]) -> str:
    """In a log without a command or reply, which knows two labels: that of the second, where the program says with the
    first that it connects to a port. Empty for any other text."""
    labels = [_label(line) for line in lines if line.strip()]
    two = list(dict.fromkeys(labels))
    if len(two) != 2 or "" in two or any(_COMMAND.search(line) or _reply_in(line) for line in lines):
        return ""
    dials = (_dialled(line) for line in lines if _label(line) == two[0] and line.rstrip().endswith(("...", "…")))
    return two[1] if any(each and each[1] for each in dials) else ""


_OF_STEP = {"STOR": 150, "RETR": 150, "LIST": 150, "NLST": 150, "AUTH": 234}
"""The reply that ends a step well; another's is 200."""


def _steps(line: str, errors: ErrorWords) -> Iterator[LogEvent]:
    """Commands with what became of each, where a line has them, as the replies that this stands for."""
    if login := _LET_IN.match(line):
        yield LogEvent("USER", text=login[1])
        if login[2] is None:
            return
        yield LogEvent("PASS")
        good = login[2] == "Logged in!"
        yield LogEvent(code=230 if good else 530, text=said(login[3] or ""), bare=True)
    elif greeted := _GREETED.search(line):
        yield LogEvent(word="connected", dials=_dialled(line))
        yield LogEvent(code=421 if greeted[1] else 220, text=said(greeted[1] or ""), bare=True)
    elif _SAVED.search(line):
        yield LogEvent(code=226, bare=True)
    for verb, rest in _STEP.findall(line):
        ended = rest.rstrip()
        if verb not in _VERBS or ended.endswith("..."):
            return  # what became of it stands in the lines that follow
        yield LogEvent(verb, text="TLS" if verb == "AUTH" else "")
        if ended.endswith(("done.", "encrypted!")):
            yield LogEvent(code=_OF_STEP.get(verb, 200), bare=True)
        elif failed := _STEP_FAILED.search(rest):
            yield LogEvent(code=500, text=said(failed[1] or ""), bare=True)
        elif error := errors.error_in(rest):
            waited = verb in TRANSFERS and _ONCE_CONNECTED.search(rest)  # for the server's reply, not for data
            yield LogEvent(error="any" if waited else error, text=said(rest), connected=bool(waited))


def said(text: str) -> str:
    """Words that may be shown: without what stands for a password, plainly visible, and not too long."""
    return printable(_SECRET.sub(r"\1\2\3…", text.strip().replace("\t", " ")), MOST_OF_WORDS)


def _talk(line: str, errors: ErrorWords) -> LogEvent | None:
    """What a client says of its own."""
    text = said(line)
    if _DISTRUST.search(line):
        return LogEvent(word="distrust", text=text)
    if _TLS_FAILED.search(line):
        return LogEvent(word="tls", text=text)
    if _NO_NAME.search(line):
        return LogEvent(word="name", text=text)
    if _REPLACED.search(line):
        return LogEvent(word="replaced")
    if _MISMATCH.search(line):
        return LogEvent(word="mismatch", text=text)
    if _CONNECTED.search(line):
        return LogEvent(word="connected", dials=_dialled(line))
    if _OTHER_PROTOCOL.search(line):
        return LogEvent(word="other")
    if error := errors.error_in(line):
        connected = bool(_ONCE_CONNECTED.search(line))
        return LogEvent(error=error, text=text, vague=bool(_AT_ANY_RUNG.search(text)), connected=connected)
    if _NOT_CONNECTED.search(line):
        return LogEvent(error="any", text=text)
    if _ONCE_CONNECTED.search(line):
        return LogEvent(word="connected")
    dials = _dialled(line)
    return LogEvent(dials=dials, text=re.sub(r"[0-9A-Fa-f:.]*[0-9][0-9A-Fa-f:.]*", "#", text)) if dials else None


def _dialled(line: str) -> tuple[str, int | None] | None:
    """The address in a line where there is exactly one, and the port behind it."""
    found = [each for each in _DIALS.finditer(line) if address_or_none(each[1].strip("[]")) is not None]
    if len({each[1].strip("[]") for each in found}) != 1:
        return None
    address = found[0][1].strip("[]")
    if before := _SIX_AND_PORT.fullmatch(address if line[found[0].end() :].startswith("...") else ""):
        return before[1], int(before[2])
    port = _PORT_AFTER.match(line[found[-1].end() :])
    return address, int(port[1]) if port and 0 < int(port[1]) < 65536 else None


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
