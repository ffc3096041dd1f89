"""A million damaged inputs: readers raise what they say they raise, and nothing else."""

import random
from collections.abc import Callable

import pytest

from eager_lantern.wire.control import Control
from eager_lantern.wire.endpoints import extended_port, passive_endpoint
from eager_lantern.wire.reply import MOST_REPLY_BYTES, ProtocolFault, Reply, ReplyReader

INPUTS = 250_000
SEEDS = [
    b"220 ready\r\n", b"220-one\r\n 220 two\r\n220 three\r\n", b"227 Entering Passive Mode (127,0,0,1,240,12).\r\n",
    b"229 Extended (|||61200|)\r\n", b"150 here\r\n226 done\r\n", b"421 bye\r\n", b"\xff\xfe220 x\r\n", b"331\r\n",
    b"\r\n", "257 „küste“ ist da\r\n".encode(),
    b"227 127,0,0,1,0,0\r\n", b"229 (!!!99999!)\r\n", b"211-\r\n\r\n211 End\r\n",
]  # fmt: skip
PIECES = [b"\r\n", b"\n", b"-", b" ", b"(", b"|||", b",", b"\x00", b"\x1b[2J", b"220", b"227 ", b"9" * 40, b"\xc3\x28"]


def damaged(chance: random.Random) -> bytes:
    """A seed with bytes changed, dropped, doubled or put in, as a fuzzer does it."""
    data = bytearray(chance.choice(SEEDS))
    for _ in range(chance.randint(0, 4)):
        at = chance.randint(0, len(data))
        match chance.randint(0, 4):
            case 0 if data:
                data[at % len(data)] = chance.randint(0, 255)
            case 1:
                del data[at : at + chance.randint(1, 4)]
            case 2:
                data[at:at] = chance.choice(PIECES)
            case 3:
                data[at:at] = data[: chance.randint(0, len(data))]
            case _:
                data[at:at] = chance.choice(SEEDS)
    return bytes(data)


def replies(data: bytes, chance: random.Random) -> None:
    reader, cut = ReplyReader(), chance.randint(0, len(data))
    for each in (*reader.receive(data[:cut]), *reader.receive(data[cut:])):
        assert 100 <= each.code <= 599
        assert len(each.text) <= MOST_REPLY_BYTES


def control(data: bytes, chance: random.Random) -> None:
    machine, cut = Control(), chance.randint(0, len(data))
    machine.receive(data[:cut])
    machine.command("LIST")
    machine.receive(data[cut:])


def passive(data: bytes, chance: random.Random) -> None:
    found = passive_endpoint(Reply(227, (data.decode("utf-8", "replace"),)))
    assert 1 <= found.port <= 65535


def extended(data: bytes, chance: random.Random) -> None:
    assert 1 <= extended_port(Reply(229, (data.decode("utf-8", "replace"),))) <= 65535


@pytest.mark.parametrize("reader", [replies, control, passive, extended])
def test_a_quarter_of_a_million_damaged_inputs_raise_nothing_unforeseen(
    reader: Callable[[bytes, random.Random], None],
) -> None:
    chance, read = random.Random(61), 0
    for _ in range(INPUTS):
        data = damaged(chance)
        try:
            reader(data, chance)
        except ProtocolFault:
            continue
        read += 1
    assert read > INPUTS // 50  # else they would all be too damaged to tell anything
