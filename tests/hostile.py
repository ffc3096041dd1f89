"""A file transfer server that misbehaves in named ways."""

import contextlib
import socket
import ssl
import struct
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache

import trustme

Act = Callable[[socket.socket], object]
HELD: list[socket.socket] = []
GREETING, DATA, BACK = "GREETING", "DATA", "BACK"
USUAL = {
    GREETING: b"220 ready\r\n", "USER": b"331 password\r\n", "PASS": b"230 in\r\n", "AUTH": b"234 go on\r\n",
    "PBSZ": b"200 ok\r\n", "PROT": b"200 ok\r\n", "TYPE": b"200 ok\r\n", "LIST": b"150 here\r\n",
    "STOR": b"150 send\r\n", "RETR": b"150 here\r\n", "DELE": b"250 gone\r\n", "QUIT": b"221 bye\r\n",
}  # fmt: skip


@dataclass
class Way:
    """One way to misbehave: the answer to a verb as bytes, or as an act on the connection; ``DATA`` is
    what it does with a data connection, ``BACK`` what it gives back of a file."""

    name: str
    rung: str
    outcome: str
    script: dict[str, bytes | Act]
    security: str = "none"  # "implicit" speaks TLS from the first byte on
    extended: bool = False


def drip(peer: socket.socket) -> None:
    """A byte a second, and never a line end."""
    for _ in range(60):
        peer.sendall(b"2")
        time.sleep(1)


def flood(peer: socket.socket) -> None:
    """Bytes without end, as fast as they go."""
    while True:
        peer.sendall(b"x" * 65536)


def long_line(peer: socket.socket) -> None:
    """Ten megabytes without a line end."""
    for _ in range(160):
        peer.sendall(b"2" * 65536)


def reset(peer: socket.socket) -> None:
    """Half of something, then a reset."""
    peer.sendall(b"-rw-r--r-- 1 o g 12 Nov 23 12:00 ti")
    peer.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    peer.close()


def hang_up(peer: socket.socket) -> None:
    """Close without a word."""
    peer.shutdown(socket.SHUT_RDWR)


def keep(peer: socket.socket) -> None:
    """Send something, and never close."""
    peer.sendall(b"total 0\r\n")
    time.sleep(60)


def garbage(peer: socket.socket) -> None:
    """Agree to TLS, then send what is none."""
    peer.sendall(b"234 go on\r\n")
    peer.recv(4096)
    peer.sendall(bytes(range(256)) * 20)
    time.sleep(0.5)


def stall(peer: socket.socket) -> None:
    """Agree to TLS, then send nothing more."""
    peer.sendall(b"234 go on\r\n")
    time.sleep(20)


def listing(*names: bytes) -> Act:
    """These file names."""

    def act(peer: socket.socket) -> None:
        peer.sendall(b"".join(b"-rw-r--r-- 1 o g 1 Nov 23 12:00 " + name + b"\r\n" for name in names))
        peer.close()

    return act


def deaf(peer: socket.socket) -> None:
    """A data port whose queue is full, so that nobody gets through."""
    waiting = socket.create_server(("127.0.0.1", 0), backlog=0)
    callers = [socket.socket() for _ in range(3)]
    for each in callers:
        each.setblocking(False)
        each.connect_ex(waiting.getsockname())
    HELD.extend([waiting, *callers])
    high, low = divmod(waiting.getsockname()[1], 256)
    peer.sendall(f"227 (127,0,0,1,{high},{low})\r\n".encode())


def endless(code: bytes) -> Act:
    """A reply of many lines that never comes to its last."""
    return lambda peer: [peer.sendall(code + b"-and so on\r\n") for _ in range(40_000)]


@cache
def tls_server() -> ssl.SSLContext:
    """A server's end of TLS, with a certificate of its own."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    trustme.CA().issue_cert("tides.saltmarsh.example").configure_cert(context)
    return context


WAYS = [
    Way("an endless greeting", "greet", "wrong", {GREETING: endless(b"220")}),
    Way("a byte a second", "greet", "silent", {GREETING: drip}),
    Way("a line of ten megabytes", "greet", "wrong", {GREETING: long_line}),
    Way("a flood instead of a greeting", "greet", "wrong", {GREETING: flood}),
    Way("hangs up before the greeting", "greet", "wrong", {GREETING: hang_up}),
    Way("a code that makes no sense", "greet", "wrong", {GREETING: b"999 hello\r\n"}),
    Way("a code of four digits", "greet", "wrong", {GREETING: b"2200 hello\r\n"}),
    Way("bytes of no text", "greet", "wrong", {GREETING: bytes(range(256)) + b"\r\n"}),
    Way("too busy", "greet", "refused", {GREETING: b"421 come back\r\n"}),
    Way("an answer to nothing asked", "login", "wrong", {"USER": b"331 password\r\n226 surprise\r\n"}),
    Way("an endless answer", "login", "wrong", {"PASS": endless(b"230")}),
    Way("an answer whose end never comes", "login", "silent", {"PASS": b"230-one\r\n231 two\r\n"}),
    Way("asks for an account as well", "login", "refused", {"PASS": b"332 account?\r\n"}),
    Way("hangs up at the user", "login", "wrong", {"USER": hang_up}),
    Way("hangs up at the password", "login", "wrong", {"PASS": hang_up}),
    Way("TLS offered, then refused", "secure", "refused", {"AUTH": b"534 not today\r\n"}, "explicit"),
    Way("a handshake that stalls", "secure", "silent", {"AUTH": stall}, "explicit"),
    Way("a handshake of garbage", "secure", "wrong", {"AUTH": garbage}, "explicit"),
    Way("hangs up at the handshake", "secure", "wrong", {"AUTH": hang_up}, "explicit"),
    Way("plain text behind the word for TLS", "secure", "wrong", {"AUTH": b"234 go on\r\n230 let"}, "explicit"),
    Way("a whole reply behind the word for TLS", "secure", "wrong", {"AUTH": b"234 go on\r\n230 in\r\n"}, "explicit"),
    Way("a farewell behind the word for TLS", "secure", "wrong", {"AUTH": b"234 go on\r\n421 bye\r\n"}, "explicit"),
    Way("garbage for protection under TLS", "secure", "wrong", {"PBSZ": b"\0\1\2 what\r\n"}, "implicit"),
    Way("no answer for protection under TLS", "secure", "silent", {"PROT": lambda peer: time.sleep(30)}, "implicit"),
    Way("no protection under TLS", "secure", "refused", {"PROT": b"536 no\r\n"}, "implicit"),
    Way("hangs up at protection under TLS", "secure", "wrong", {"PROT": hang_up}, "implicit"),
    Way("garbage as a greeting under TLS", "greet", "wrong", {GREETING: bytes(range(256)) + b"\r\n"}, "implicit"),
    Way("hangs up at the passive request", "announce", "wrong", {"PASV": hang_up}),
    Way("another host in the passive reply", "announce", "wrong", {"PASV": b"227 (10,61,4,20,200,1)\r\n"}),
    Way("port 0", "announce", "wrong", {"PASV": b"227 (127,0,0,1,0,0)\r\n"}),
    Way("numbers beyond a byte", "announce", "wrong", {"PASV": b"227 (300,0,0,1,0,9)\r\n"}),
    Way("an address in the extended reply", "announce", "wrong", {"EPSV": b"229 (|1|10.1.1.1|99|)\r\n"}, extended=True),
    Way("a port beyond ports", "announce", "wrong", {"EPSV": b"229 (|||70000|)\r\n"}, extended=True),
    Way("a data port that is closed", "data", "refused", {"PASV": b"227 (127,0,0,1,0,1)\r\n"}),
    Way("hangs up at the listing", "list", "wrong", {"LIST": hang_up}),
    Way("a listing that never ends", "list", "silent", {DATA: keep}),
    Way("a listing without bounds", "list", "wrong", {DATA: flood}),
    Way("a data connection that is reset", "list", "wrong", {DATA: reset}),
    Way("terminal codes in file names", "list", "wrong", {DATA: listing(b"\x1b]0;owned\x07.csv")}),
    Way("names that lead out of the folder", "list", "wrong", {DATA: listing(b"a.csv", b"../../etc/passwd")}),
    Way("a name from the top", "list", "wrong", {DATA: listing(b"/etc/passwd")}),
    Way("names of another system", "list", "wrong", {DATA: listing(b"..\\..\\boot.ini")}),
    Way("terminal codes in a refusal", "send", "refused", {"STOR": b"553 \x1b[2J\x1b]0;owned\x07\r\n"}),
    Way("ends the session at the listing", "list", "refused", {"LIST": b"421 \x1b[31mbye\r\n"}),
    Way("a data port that never answers", "data", "silent", {"PASV": deaf}),
    Way("hangs up while a file is sent", "send", "wrong", {"STOR": hang_up}),
    Way("hangs up while a file is fetched", "fetch", "wrong", {"RETR": hang_up}),
    Way("sends back other bytes", "fetch", "wrong", {BACK: b"something else"}),
    Way("hangs up at the removal", "tidy", "wrong", {"DELE": hang_up}),
]


@contextlib.contextmanager
def hostile(way: Way) -> Iterator[int]:
    """A running server that misbehaves so; its port."""
    listener = socket.create_server(("127.0.0.1", 0))
    script: dict[str, bytes | Act] = {**USUAL, **way.script}
    stored: list[bytes] = []

    def accept() -> None:
        with contextlib.suppress(OSError):
            while True:
                threading.Thread(target=served, args=(listener.accept()[0],), daemon=True).start()

    def served(control: socket.socket) -> None:
        with contextlib.suppress(OSError, ssl.SSLError):
            implicit = way.security == "implicit"
            serve(tls_server().wrap_socket(control, server_side=True) if implicit else control)

    def answer(peer: socket.socket, verb: str) -> None:
        act = script.get(verb, b"502 not here\r\n")
        if callable(act):
            act(peer)
        else:
            peer.sendall(act)

    def serve(control: socket.socket) -> None:
        with control, contextlib.suppress(OSError, ssl.SSLError, ValueError):
            waiting: socket.socket | None = None
            answer(control, GREETING)
            for raw in control.makefile("rb"):
                verb = raw.decode(errors="replace").split(" ")[0].strip()
                if verb in ("PASV", "EPSV") and verb not in script:
                    waiting = socket.create_server(("127.0.0.1", 0))
                    high, low = divmod(waiting.getsockname()[1], 256)
                    control.sendall(f"227 (127,0,0,1,{high},{low})\r\n".encode())
                    continue
                answer(control, verb)
                if waiting is not None and verb in ("LIST", "STOR", "RETR") and script[verb] == USUAL[verb]:
                    move(waiting, verb)
                    control.sendall(b"226 done\r\n")

    def move(waiting: socket.socket, verb: str) -> None:
        peer = waiting.accept()[0]
        act = script.get(DATA)
        if verb == "LIST" and callable(act):
            with contextlib.suppress(OSError):
                act(peer)
        elif verb == "STOR":
            while piece := peer.recv(65536):
                stored.append(piece)
        elif verb == "RETR":
            peer.sendall(script.get(BACK, b"".join(stored)))  # type: ignore[arg-type]
        peer.close()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        listener.close()
