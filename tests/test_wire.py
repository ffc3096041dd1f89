"""The FTP control connection without a socket."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_lantern.wire.ftp import (
    MOST_REPLY_BYTES,
    Completion,
    Control,
    Endpoint,
    Farewell,
    Greeting,
    Preliminary,
    ProtocolFault,
    Reply,
    ReplyReader,
    State,
    eprt_argument,
    extended_port,
    passive_endpoint,
    port_argument,
)
from eager_lantern.wire.terminal_safe import printable

SESSION = (
    b"220-Gauge store\r\n220 of the coast\r\n"
    b"211-Features:\r\n PASV\r\n211 is no end\r\n211 End\r\n"
    b"230\r\n150 here\n226-a\r\n225 b\r\n 226 c\r\n226 d\r\n"
)
REPLIES = [
    Reply(220, ("Gauge store", "of the coast")),
    Reply(211, ("Features:", " PASV", "is no end")),
]


@given(st.lists(st.integers(0, len(SESSION)), max_size=12))
def test_replies_do_not_depend_on_how_bytes_arrive(cuts: list[int]) -> None:
    edges = [0, *sorted(cuts), len(SESSION)]
    reader = ReplyReader()
    arrived = [reply for a, b in pairwise(edges) for reply in reader.receive(SESSION[a:b])]
    assert arrived == ReplyReader().receive(SESSION)


def test_lines_of_a_long_reply_end_with_its_code_and_a_space() -> None:
    codes = [each.code for each in ReplyReader().receive(SESSION)]
    assert codes == [220, 211, 211, 230, 150, 226]
    assert ReplyReader().receive(SESSION)[:2] == REPLIES
    assert ReplyReader().receive(SESSION)[5].lines == ("a", "225 b", " 226 c", "d")


@pytest.mark.parametrize("line", [b"SSH-2.0-x\r\n", b"\r\n", b"99 x\r\n", b"620 x\r\n", b"2200 x\r\n"])
def test_what_is_no_reply_is_a_fault(line: bytes) -> None:
    with pytest.raises(ProtocolFault, match="no FTP reply"):
        ReplyReader().receive(line)


@pytest.mark.parametrize("piece", [b"x" * 4096, b"220-y\r\n" * 600], ids=["one-line", "many-lines"])
def test_a_reply_without_end_is_given_up(piece: bytes) -> None:
    with pytest.raises(ProtocolFault, match=f"more than {MOST_REPLY_BYTES} bytes"):
        ReplyReader().receive(b"220-" + piece * 40)


def test_a_session_goes_through_its_states() -> None:
    control = Control()
    seen = control.receive(b"120 soon\r\n220 ready\r\n")
    sent = control.command("RETR", "tides.csv")
    assert sent == b"RETR tides.csv\r\n"
    assert control.state is State.ASKED
    seen += control.receive(b"150 here\r\n")
    assert control.state is State.MOVING
    seen += control.receive(b"226 done\r\n")
    assert [type(each) for each in seen] == [Preliminary, Greeting, Preliminary, Completion]
    assert control.state is State.READY
    control.command("NOOP")
    assert [type(each) for each in control.receive(b"421 bye\r\n")] == [Farewell]
    assert control.state is State.CLOSED


def test_one_command_at_a_time() -> None:
    control = Control()
    with pytest.raises(ProtocolFault, match="while greeting"):
        control.command("USER", "station")
    control.receive(b"220 ready\r\n")
    control.command("USER", "station")
    with pytest.raises(ProtocolFault, match="while asked"):
        control.command("PASS", "x")


def test_a_reply_that_nobody_asked_for_is_a_fault() -> None:
    control = Control()
    control.receive(b"220 ready\r\n")
    with pytest.raises(ProtocolFault, match="nothing was asked"):
        control.receive(b"230 in\r\n")


@pytest.mark.parametrize("argument", ["a\r\nDELE b", "a\nb", "\x00", "\x7f"])
def test_an_argument_cannot_smuggle_in_a_command(argument: str) -> None:
    control = Control()
    control.receive(b"220 ready\r\n")
    with pytest.raises(ValueError, match="control characters"):
        control.command("STOR", argument)


@pytest.mark.parametrize(
    ("text", "endpoint"),
    [
        ("Entering Passive Mode (198,51,100,61,239,16).", "198.51.100.61:61200"),
        ("=198,51,100,61,239,16", "198.51.100.61:61200"),
        ("Entering 198, 51, 100, 61, 0, 21", "198.51.100.61:21"),
        ("(198,51,100,256,239,16)", None),
        ("(198,51,100,61,0,0)", None),
        ("(198,51,100,61,239)", None),
        ("Entering Passive Mode", None),
    ],
)
def test_passive_replies_are_searched_for_six_numbers(text: str, endpoint: str | None) -> None:
    if endpoint:
        assert str(passive_endpoint(Reply(227, (text,)))) == endpoint
    else:
        with pytest.raises(ProtocolFault):
            passive_endpoint(Reply(227, (text,)))


@pytest.mark.parametrize(
    ("text", "port"),
    [("ok (|||61200|)", 61200), ("ok (!!!21!)", 21), ("(|||0|)", None), ("(|||70000|)", None), ("(|1|a|2|)", None)],
)
def test_extended_replies_hold_a_port(text: str, port: int | None) -> None:
    if port:
        assert extended_port(Reply(229, (text,))) == port
    else:
        with pytest.raises(ProtocolFault):
            extended_port(Reply(229, (text,)))


def test_endpoints_are_named_as_the_standards_write_them() -> None:
    assert port_argument(Endpoint("198.51.100.61", 61200)) == "198,51,100,61,239,16"
    assert eprt_argument(Endpoint("132.235.1.2", 6275)) == "|1|132.235.1.2|6275|"
    assert eprt_argument(Endpoint("1080::8:800:200C:417A", 5282)) == "|2|1080::8:800:200C:417A|5282|"


@given(st.text())
def test_nothing_that_is_shown_can_steer_a_terminal(text: str) -> None:
    assert printable(text, 10_000).isprintable()
    assert len(printable(text, 5)) <= 5 * 8 + 1
