"""Passwords: where they come from, and how they are kept out of everything that is shown.

Theory: one pass over bytes
===========================
A server that has got a password may say it again, as it is or so that a plain search does not find it: with escapes
(``%70``, ``\\x70``, ``&#112;``), in Base64 or in hexadecimal digits, backwards, broken up by other letters. The text is
first read as bytes, each with the place in the text that it came from, so that an escape is one byte. Each form of the
secret is a row of bytes as well, and all of them are looked for at once by the shift-and method (Baeza-Yates and
Gonnet, *A new approach to text searching*, 1992): bit ``j`` of the state after a byte says that the first ``j + 1``
bytes of a form end there. To allow up to GAP other bytes in between, the states of the last ``GAP + 1`` bytes are
joined before the shift. That is linear in the text, whatever somebody puts into it; a regular expression with gaps is
exponential in the secret.

Base64 depends on where in a group of three bytes the secret begins: each of the three has its own row, without the
digits that its neighbours have a part in.

>>> traces("tern-61-ebb", "331 user dGVybi02MS1lYmI= or t.e.r.n.-.6.1.-.e.b.b", gap=3)
[(9, 23), (29, 50)]
"""

import contextlib
import getpass
import netrc
import os
import re
import signal
import sys
from base64 import b64encode
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct, structs

from ...core.observed.climb import Climb

VARIABLE = "EAGER_LANTERN_PASSWORD"
HIDDEN = "••••"


LONG = 8
"""From how many characters on a password hardly stands in a text by chance, broken up or not."""


class Secret:
    """A password that does not print itself; ``of_host`` where it belongs to the name of a host, as netrc has it."""

    def __init__(self, text: str, of_host: bool = False) -> None:
        self._text = text
        self.of_host = of_host

    def reveal(self) -> str:
        """The password itself, for the wire only."""
        return self._text

    def hide_in(self, text: str) -> str:
        """The text with the password covered wherever it stands, in every form that :func:`traces` knows. Only
        for foreign text: a short password may well be a part of our own words."""
        parts, done = [], 0
        for first, last in traces(self._text, text, GAP if self.is_long else 0):
            parts += [text[done:first], HIDDEN]
            done = last
        return "".join((*parts, text[done:]))

    @property
    def is_long(self) -> bool:
        """Whether it hardly stands in any text by chance."""
        return len(self._text) >= LONG

    def __repr__(self) -> str:
        return f"Secret({HIDDEN})"


class NoPassword(Exception):
    """There is no way to learn the password, with what would be one."""


def password_for(host: str, user: str) -> Secret:
    """The password from the environment, netrc, or a prompt, in this order.

    Raises NoPassword where none of them is there; anonymous users need none (RFC 1635).
    """
    if VARIABLE in os.environ:
        return Secret(os.environ[VARIABLE])
    if found := _from_netrc(host, user):
        return found
    if user == "anonymous":
        return Secret("guest@")
    if sys.stdin is not None and sys.stdin.isatty():
        with _interruptible():
            return Secret(getpass.getpass(f"Password of {user} at {host}: ", stream=sys.stderr))
    raise NoPassword(f"no password for {user}: set {VARIABLE}, or add {host} to ~/.netrc, or run in a terminal")


@contextlib.contextmanager
def _interruptible() -> Iterator[None]:
    """Ctrl-C ends a question at once, also where asyncio would wait for its answer first."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _from_netrc(host: str, user: str) -> Secret | None:
    path = Path(os.environ.get("NETRC", "~/.netrc")).expanduser()
    if not os.path.isfile(path):  # noqa: PTH113  (Path.is_file raises where it may not look)
        return None
    try:
        entry = netrc.netrc(path).authenticators(host)
    except netrc.NetrcParseError as error:
        # The parser's own message may quote what it stumbled over, which may be a password.
        raise NoPassword(f"{path}:{error.lineno}: cannot be understood, or others may read it") from None
    except OSError as error:
        raise NoPassword(f"{path}: cannot be read: {error.strerror}") from None
    if entry is None or entry[0] not in ("", user) or entry[2] is None:
        return None
    return Secret(entry[2], of_host=True)


GAP = 3
LEAST_FORM = 6
"""A shorter row of digits stands in many texts by chance."""
_PIECE = re.compile(
    r"\\x(?P<hex>[0-9a-fA-F]{2})|\\u(?P<wide>[0-9a-fA-F]{4})|%(?P<percent>[0-9a-fA-F]{2})"
    r"|&#(?P<number>[0-9]{1,7});|&#[xX](?P<digits>[0-9a-fA-F]{1,6});|\\[rnt]|.",
    re.DOTALL,
)
Place = tuple[int, int]


def traces(secret: str, text: str, gap: int = 0) -> list[Place]:
    """The places of a text in which a secret stands, as start and end, in order and apart from each other; ``gap`` is
    how many other characters may break it up. Linear in the length of the text."""
    forms = list(dict.fromkeys(_secret_forms(secret)))
    if not secret or not text or not forms:
        return []
    found, places = _normalised(text)
    spans = ((places[first][0], places[last][1]) for first, last in _form_ends(forms, found, gap))
    return list(_merge_spans(sorted(spans)))


def _secret_forms(secret: str) -> Iterator[bytes]:
    """The secret in lower case as rows of bytes. Short digits of it are left out."""
    plain = secret.encode("utf-8", "surrogateescape")
    yield _lower_bytes(secret)
    if len(plain) < LEAST_FORM // 2:
        return
    yield _lower_bytes(secret[::-1])
    for form in (plain.hex().encode(), *(_in_base64(plain, offset) for offset in range(3))):
        if len(form) >= LEAST_FORM:
            yield form
            yield form.translate(bytes.maketrans(b"+/", b"-_"))


def _lower_bytes(text: str) -> bytes:
    return text.lower().encode("utf-8", "surrogateescape")


def _in_base64(plain: bytes, offset: int) -> bytes:
    """The digits that are the secret's alone where it begins at this byte of a group of three."""
    digits = b64encode(bytes(offset) + plain)
    first = -(-offset * 8 // 6)
    return digits[first : (offset + len(plain)) * 8 // 6].lower()


def _normalised(text: str) -> tuple[bytes, list[Place]]:
    """The text in lower case as bytes, escapes read, and where each of them stands."""
    found, places = bytearray(), list[Place]()
    for piece in _PIECE.finditer(text):
        of = _meant(piece)
        found += of
        places += [piece.span()] * len(of)
    return bytes(found), places


def _meant(piece: re.Match[str]) -> bytes:
    match piece.lastgroup:
        case "hex" | "percent":
            return bytes((int(piece[piece.lastgroup], 16),)).lower()
        case "wide" | "digits":
            number = int(piece[piece.lastgroup], 16)
        case "number":
            number = int(piece["number"])
        case _ if len(piece[0]) == 2:
            return b" "
        case _:
            return piece[0].lower().encode("utf-8", "surrogatepass" if piece[0] < "\udc80" else "surrogateescape")
    return _lower_bytes(chr(number)) if number < 0xD800 or 0xE000 <= number < 0x110000 else b"?"


def _form_ends(forms: list[bytes], text: bytes, gap: int) -> Iterator[Place]:
    """Where the forms stand in a row of bytes: the first and the last byte of each."""
    masks, starts, lasts, bit = [0] * 256, 0, 0, 1
    for form in forms:
        starts |= bit
        for byte in form:
            masks[byte] |= bit
            bit <<= 1
        lasts |= bit >> 1
    states: list[int] = []
    covered: dict[int, int] = {}
    reached = [0] * (gap + 1)
    for i, byte in enumerate(text):
        before = 0
        for state in reached:
            before |= state
        state = masks[byte] & (before << 1 | starts)
        states.append(state)
        reached[i % (gap + 1)] = state
        if state & lasts:
            last = (state & lasts).bit_length() - 1
            # a form that ended at the byte before as well is covered up to there: only this byte is new
            yield (i if covered.get(last) == i - 1 else _begin(states, last, i, starts, gap)), i
            covered[last] = i


def _begin(states: list[int], bit: int, at: int, starts: int, gap: int) -> int:
    """Where what ends at a byte with this bit begins: back to the nearest byte that the bit before ends at."""
    while not starts >> bit & 1:
        bit -= 1
        at = next(i for i in range(at - 1, at - gap - 2, -1) if states[i] >> bit & 1)
    return at


def _merge_spans(spans: list[Place]) -> Iterator[Place]:
    """Ascending spans, those that overlap or touch as one."""
    current: Place | None = None
    for first, last in spans:
        if current is not None and first <= current[1]:
            current = current[0], max(current[1], last)
        else:
            if current is not None:
                yield current
            current = first, last
    if current is not None:
        yield current


def covered(climb: Climb, secret: Secret) -> Climb:
    """The result with the password covered in every text. A short one is covered only where the server has said
    it, when it was read."""
    found: Climb = _covered(climb, secret) if secret.is_long else climb
    return found


def _covered(value: Any, secret: Secret) -> Any:
    if isinstance(value, str):
        return secret.hide_in(value)
    if isinstance(value, tuple):
        return tuple(_covered(each, secret) for each in value)
    if isinstance(value, Struct):
        fields = {each: _covered(getattr(value, each), secret) for each in value.__struct_fields__}
        return structs.replace(value, **fields)
    return value
