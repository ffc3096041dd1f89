"""What a lamp says to a browser: requests and answers of HTTP/1.1 (RFC 9112) by h11, and the bounds that they are held
to. Bytes in, values out; it never touches a socket.

One request, one answer, and the connection ends. A request is judged by its head before a byte of its body is taken, so
that nobody who does not know a key can make a lamp hold more than a head. Whatever is not one of the questions below is
no question, and gets no answer at all: not an error either, since that would be a byte.

    GET   /TOKEN          the page                          at a port of the page
    POST  /TOKEN/begin    the key of a sweep, and its ports at a port of the page
    GET   /KEY/here       that this port has come here      at any port
    POST  /KEY/fates      what became of the others         at a port of the page
"""

import re
from typing import Literal

import h11
from msgspec import Struct

MOST_HEAD, MOST_BODY = 8_192, 262_144
"""Bytes of a request. The ports of a sweep, each for itself, are fewer."""
TLS_HANDSHAKE = b"\x16\x03"
"""How a browser begins that insists on TLS (RFC 8446, section 5.1)."""
_PATH = re.compile(r"/([A-Za-z2-7]{26,64})(?:/(begin|here|fates))?")
Question = Literal["page", "begin", "here", "fates"]
_METHODS: dict[Question, str] = {"page": "GET", "begin": "POST", "here": "GET", "fates": "POST"}


class NoQuestion(ValueError):
    """What came is nothing that a lamp answers."""


class HttpHead(Struct, frozen=True):
    """The head of a request: what is asked with which key, of which host and port, and the page that asks, where
    the browser states it (``Origin``, RFC 6454)."""

    question: Question
    key: str
    host: str
    origin: str


class HttpQuestion:
    """A request as it comes in, piece by piece."""

    def __init__(self) -> None:
        self._connection = h11.Connection(h11.SERVER, max_incomplete_event_size=MOST_HEAD)
        self._got = 0
        self.head: HttpHead | None = None
        self.body = b""
        self.whole = False

    def take(self, data: bytes) -> None:
        """The next bytes; nothing at their end. Raises NoQuestion."""
        self._got += len(data)
        if self._got > MOST_HEAD + MOST_BODY:
            raise NoQuestion("more bytes than any question has")
        try:
            self._connection.receive_data(data)
            while not self.whole:
                event = self._connection.next_event()
                if isinstance(event, h11.Request):
                    self.head = _head_of(event)
                elif isinstance(event, h11.Data):
                    self.body += bytes(event.data)
                elif isinstance(event, h11.EndOfMessage):
                    self.whole = True
                elif event is h11.NEED_DATA and data:
                    return
                else:
                    raise NoQuestion("it ends before its end")
        except h11.ProtocolError:
            raise NoQuestion("no HTTP/1.1") from None

    def answer(self, status: int, headers: dict[str, str], body: bytes) -> bytes:
        """The answer to a whole request."""
        fields = {**headers, "Content-Length": str(len(body)), "Connection": "close"}
        parts = (
            h11.Response(status_code=status, headers=list(fields.items())), h11.Data(data=body), h11.EndOfMessage(),
        )  # fmt: skip
        return b"".join(self._connection.send(each) or b"" for each in parts)


def _head_of(request: h11.Request) -> HttpHead:
    """Raises NoQuestion."""
    match = _PATH.fullmatch(request.target.decode("ascii", "replace"))
    fields: dict[str, str] = {}
    for name, value in request.headers:
        if name in (b"host", b"origin") and name.decode() in fields:
            raise NoQuestion("a field that stands twice")
        fields[name.decode()] = value.decode("latin-1")
    question: Question = match[2] or "page" if match else "page"  # type: ignore[assignment]
    if match is None or request.method.decode() != _METHODS[question]:
        raise NoQuestion("another path or method")
    if "expect" in fields:  # who waits for "100 Continue" waits in vain
        raise NoQuestion("it waits to be asked for its body")
    return HttpHead(question, match[1].lower(), fields.get("host", ""), fields.get("origin", ""))
