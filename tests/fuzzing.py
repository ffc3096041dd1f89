"""Readers of what strangers send, each with inputs to begin from."""

from collections.abc import Callable
from dataclasses import dataclass

from msgspec import convert

from eager_lantern.live.vantage.agent import Frames, packed
from eager_lantern.live.vantage.link import AgentReply
from eager_lantern.wire.ftp import (
    MOST_REPLY_BYTES,
    MOST_TOLD,
    Control,
    ProtocolFault,
    Reply,
    ReplyReader,
    extended_port,
    passive_endpoint,
    read_listing,
)
from eager_lantern.wire.lamp import Sight, answer, nonce_of, question, seen
from eager_lantern.wire.ssh_offer import OfferReader

SECRET, NONCE = b"shared", bytes(range(16))
LISTS = b"".join(len(each).to_bytes(4, "big") + each for each in [b"curve25519-sha256,ecdh", b"ssh-ed25519"] * 5)
OFFER = b"\x14" + NONCE + LISTS + bytes(5)


@dataclass(frozen=True)
class Target:
    """A reader: what to feed it, what it may raise. It answers whether the input was read."""

    read: Callable[[bytes], bool]
    seeds: tuple[bytes, ...]
    raises: type[Exception] = ProtocolFault

    def survives(self, data: bytes) -> bool:
        try:
            return self.read(data)
        except self.raises:
            return False


def cut(data: bytes) -> tuple[bytes, bytes]:
    """The data in two pieces, at a place that it tells itself."""
    at = (data[0] % (len(data) + 1)) if data else 0
    return data[:at], data[at:]


def replies(data: bytes) -> bool:
    reader = ReplyReader()
    found = [each for piece in cut(data) for each in reader.receive(piece)]
    assert all(100 <= each.code <= 599 and len(each.text) <= MOST_REPLY_BYTES for each in found)
    return bool(found)


def control(data: bytes) -> bool:
    machine = Control()
    greeting, end, rest = data.partition(b"\n")
    machine.receive(greeting + end)
    machine.command("LIST")
    return bool(machine.receive(rest))


def passive(data: bytes) -> bool:
    return 1 <= passive_endpoint(Reply(227, (data.decode("utf-8", "replace"),))).port <= 65535


def extended(data: bytes) -> bool:
    return 1 <= extended_port(Reply(229, (data.decode("utf-8", "replace"),))) <= 65535


def lamp(data: bytes) -> bool:
    return nonce_of(SECRET, data) is not None or seen(SECRET, NONCE, data) is not None


def listing(data: bytes) -> bool:
    found = read_listing(data)
    assert len(found.tricks) <= min(MOST_TOLD, found.entries)
    assert all(each.isprintable() for each in found.tricks)
    return found.entries > 0


def offer(data: bytes) -> bool:
    reader, (first, rest) = OfferReader(), cut(data)
    return reader.receive(first) is not None or reader.receive(rest) is not None


def frames(data: bytes) -> bool:
    reader = Frames()
    return bool([convert(head, AgentReply) for piece in cut(data) for head, _ in reader.receive(piece)])


REPLIES = (
    b"220 ready\r\n", b"220-one\r\n 220 two\r\n220 three\r\n", b"150 here\r\n226 done\r\n", b"421 bye\r\n",
    b"\xff\xfe220 x\r\n", b"331\r\n", b"\r\n", "257 „küste“ ist da\r\n".encode(), b"211-\r\n\r\n211 End\r\n",
)  # fmt: skip
TARGETS = {
    "replies": Target(replies, REPLIES),
    "control": Target(control, tuple(b"220 ready\r\n" + each for each in REPLIES)),
    "passive": Target(passive, (b"Passive Mode (127,0,0,1,240,12).", b"127,0,0,1,0,0", b"= 10,61,4,20,239,16")),
    "extended": Target(extended, (b"Extended (|||61200|)", b"(!!!99999!)", b"(|1|10.61.4.20|99|)")),
    "lamp": Target(
        lamp, (question(SECRET, NONCE), answer(SECRET, NONCE, Sight("10.61.4.20", 40_000, "2001:db8::1", 21)))
    ),
    "listing": Target(
        listing,
        (
            b"total 2\r\n-rw-r--r-- 1 o g 12 Nov 23 12:00 tide.csv\r\nlrwxrwxrwx 1 o g 1 Nov 23  2025 a -> ../../b\r\n",
            b"11-23-26  12:00PM  <DIR> in\r\n11-23-26  12:00PM  12 ..\\up.txt\r\n", b"type=file;size=12; a b.csv\r\n",
            b"-rw-r--r-- 1 o g 1 Nov 23 12:00 \x1b]0;x\x07../../etc/passwd\r\n", b"tide.csv\r\n",
        ),
    ),
    "offer": Target(offer, (b"SSH-2.0-a\r\n" + (len(OFFER) + 5).to_bytes(4, "big") + b"\x04" + OFFER + bytes(4),)),
    "frames": Target(frames, (packed({"is": "data", "n": 1}, b"abc"), packed({"do": "ping", "n": 0}) * 2), ValueError),
}  # fmt: skip
