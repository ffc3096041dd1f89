"""What a survey learns, of whom it asks, and what it makes of it: stand-ins, hostile answerers, and, in the kernel,
real routers and servers of names."""

import asyncio
import json
import os
import platform
import pwd
import socket
import subprocess
import sys
import time
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import dns.message
import dns.rdatatype
import dns.rrset
import pytest
import yaml
from far_host import FarHost, far_host, needs_ssh
from program import AFTER, result_of, run
from survey_lab import HOST, NAME, OLD, OUTSIDE, PUBLIC, ROUTER, lacking, survey_lab

from eager_lantern.core.observed.survey import (
    ClockState,
    MappingSeen,
    OutsideSeen,
    Survey,
    SurveyedHost,
)
from eager_lantern.core.values.addresses import Address
from eager_lantern.formats.results.observations import reached_at
from eager_lantern.lab.kernel.lab import UNSHARE, missing_means
from eager_lantern.lab.servers.router import RouterSetup, StandInRouter, StandInStun, answering_datagrams
from eager_lantern.live import own_process as worker
from eager_lantern.live.survey import router
from eager_lantern.live.survey.accounts import own_accounts
from eager_lantern.live.survey.host import Learning
from eager_lantern.live.survey.names import Asks, name_seen
from eager_lantern.live.survey.router import searched
from eager_lantern.live.survey.survey import SurveyPlan, outside_of_host, survey
from eager_lantern.live.vantage.local import HERE
from eager_lantern.wire import igd, linux_host, nat_pmp, pcp, stun
from eager_lantern.wire.ftp import Endpoint

CASES = Path(__file__).parent / "cases"
MEANS = yaml.safe_load((CASES / "surveyed.yaml").read_text())
BESIDE = yaml.safe_load((CASES / "survey-findings.yaml").read_text())
TOLD = yaml.safe_load((CASES / "linux-words.yaml").read_text())
SEEN = Address.parse("198.51.100.61")
MAPPING = MappingSeen("tcp", 21, Address.parse("10.61.4.20"), 21, "x", name="a <b> & c", lease_seconds=600)
OWN = f"127.61.{os.getpid() // 250 % 250}.{os.getpid() % 250 + 1}"
"""An address of this process alone: several run side by side."""
loopback = pytest.mark.skipif(not sys.platform.startswith("linux"), reason="needs all of 127.0.0.0/8")


@pytest.mark.parametrize("case", TOLD, ids=lambda case: case["name"])
def test_a_linux_system_is_read_as_it_tells_of_itself(case: dict[str, Any]) -> None:
    texts = [each.encode() for each in case["texts"]]
    work: Callable[..., Any] = getattr(linux_host, case["reads"])
    if case["reads"] == "way_out":
        found: Any = work(*texts, 4, frozenset(case["tunnels"]))
    else:
        found = work(*texts)
    assert str(found) == case["gives"]


@pytest.mark.parametrize(
    "reads", [linux_host.interfaces, linux_host.listeners, linux_host.filter_state], ids=lambda each: each.__name__
)
@pytest.mark.parametrize("text", [b"{", b"[" * 99_999, b"\xff\0x", b'[{"addr_info":[{"local":"x"}]}]', b"tcp LISTEN"])
def test_what_a_system_cannot_have_said_is_no_fact(reads: Callable[[bytes], Any], text: bytes) -> None:
    with pytest.raises(ValueError, match=r"."):
        reads(text if reads is not linux_host.filter_state else text or b"{")


async def asked_of(setup: RouterSetup, stun_server: Endpoint | None = None) -> tuple[Survey, list[str]]:
    told: list[str] = []
    wanted = SurveyPlan(router=Address.parse(setup.address), stun=(stun_server,) if stun_server else ())
    return await survey(HERE, wanted, (), told.append), told


@loopback
def test_a_router_is_read_in_all_its_languages_and_nothing_is_left_on_it() -> None:
    async def done() -> tuple[Survey, list[str], StandInRouter]:
        setup = RouterSetup(OWN, SEEN, (MAPPING,))
        async with StandInRouter(setup) as stand_in, StandInStun(OWN, seen_as=SEEN) as server:
            found, told = await asked_of(setup, Endpoint(OWN, server.port))
            return found, told, stand_in

    found, told, stand_in = asyncio.run(done())
    assert {each.means for each in found.outside} == {"nat-pmp", "pcp", "upnp", "stun"}
    assert {each.address for each in found.outside} == {SEEN}
    assert [(each.port, each.to, each.name, each.lease_seconds) for each in found.mappings] == [
        (21, Address.parse("10.61.4.20"), "a <b> & c", 600)
    ]
    assert stand_in.mapped == {}
    assert f"asking {OWN} by PCP for a mapping" in told[0]


Answer = Callable[[bytes], bytes]
HOSTILE: dict[str, tuple[int, Answer, str]] = {
    "a nonce of its own": (pcp.PORT, lambda q: bytes((2, 0x80 | q[1])) + bytes(22) + bytes(36), "its nonce is not"),
    "half an answer": (pcp.PORT, lambda q: q[:7], "none to this question"),
    "a description elsewhere": (
        igd.SEARCH_PORT,
        lambda q: b"HTTP/1.1 200 OK\r\nLOCATION: http://127.61.9.9:80/x\r\n\r\n",
        "leads to another host",
    ),
    "a description in a file": (
        igd.SEARCH_PORT,
        lambda q: b"HTTP/1.1 200 OK\r\nLOCATION: file:///etc/passwd\r\n\r\n",
        "leads to another host",
    ),
    "words of its own": (igd.SEARCH_PORT, lambda q: b"\x1b[2J", "none to a search"),
}


@loopback
@pytest.mark.parametrize("name", HOSTILE)
def test_an_answer_that_is_a_trick_is_no_fact_and_nobody_else_is_asked(name: str) -> None:
    port, answer, why = HOSTILE[name]

    async def done() -> tuple[Survey, list[str]]:
        transport, _ = await answering_datagrams(OWN, port, lambda question, _: answer(question))
        try:
            return await asked_of(RouterSetup(OWN, SEEN))
        finally:
            transport.close()

    found, _ = asyncio.run(done())
    assert (found.outside, found.mappings) == ((), ())
    assert any(why in each.why for each in found.unknown), found.unknown
    assert not any("\x1b" in each.why for each in found.unknown)


BOMB = b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">]><x>&a;</x>'
PAGES: dict[str, tuple[bytes, str]] = {
    "a bomb of entities": (b"HTTP/1.1 200 OK\r\n\r\n" + BOMB, "XML that is not read"),
    "without an end": (b"HTTP/1.1 200 OK\r\n\r\n" + b"x" * 400_000, "answers more than 262144 bytes"),
    "heads without an end": (b"HTTP/1.1 200 OK\r\n" + b"a: b\r\n" * 90_000, "no HTTP"),
    "no page at all": (b"\0" * 40, "no HTTP"),
    "mappings of somebody else": (
        b"HTTP/1.1 200 OK\r\n\r\n<r><service><serviceType>"
        + igd.SERVICES[0].encode()
        + b"</serviceType><controlURL>http://127.61.9.9/</controlURL></service></r>",
        "leads to another host",
    ),
}


@asynccontextmanager
async def serving(page: bytes) -> AsyncIterator[igd.Url]:
    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.readuntil(b"\r\n\r\n")
        writer.write(page)
        writer.close()

    server = await asyncio.start_server(answer, OWN, 0)
    async with server:
        yield igd.Url(OWN, server.sockets[0].getsockname()[1], "/")


@loopback
@pytest.mark.parametrize("name", PAGES)
def test_a_page_that_is_a_trick_is_left_in_bounded_time_and_memory(name: str) -> None:
    page, why = PAGES[name]

    async def done() -> str:
        async with serving(page) as url:
            location = f"http://{OWN}:{url.port}/x".encode()
            search = b"HTTP/1.1 200 OK\r\nLOCATION: " + location + b"\r\n\r\n"
            transport, _ = await answering_datagrams(OWN, igd.SEARCH_PORT, lambda question, _: search)
            try:
                learning = Learning()
                asking = router.Asking(Address.parse(OWN), None, frozenset())
                await router.router_answers(HERE, asking, lambda line: None, learning)
                return next(each.why for each in learning.unknown if each.topic == "mappings")
            finally:
                transport.close()

    assert why in asyncio.run(done())


@pytest.mark.parametrize("answer", [b"", b"\1\1", bytes(20), stun.binding_request(b"y" * 12)])
def test_a_stun_answer_to_nothing_that_was_asked_is_no_address(answer: bytes) -> None:
    with pytest.raises(ValueError, match="answer"):
        stun.mapped_address(answer, b"x" * 12)


NOBODYS = ("127.0.0.1", "10.61.4.20", "224.0.0.251", "0.0.0.0", "169.254.169.254", "100.64.7.12")


@pytest.mark.parametrize("address", NOBODYS)
def test_a_stun_answer_of_an_address_that_is_nobodys_on_the_internet_is_no_address(address: str) -> None:
    place = bytes((0, 1, 0, 21)) + Address.parse(address).number.to_bytes(4)
    answer = bytes.fromhex("0101000c2112a442") + b"x" * 12 + bytes((0, 1, 0, 8)) + place
    with pytest.raises(ValueError, match="which no host on the internet has"):
        stun.mapped_address(answer, b"x" * 12)


@loopback
def test_the_routers_answer_is_found_behind_those_of_three_hundred_strangers() -> None:
    def answer(question: bytes, asker: tuple[str, int]) -> bytes:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            stranger.bind(("127.61.255.1", 0))
            for _ in range(300):
                stranger.sendto(b"HTTP/1.1 200 OK\r\nLOCATION: http://127.61.255.1/\r\n\r\n", asker)
        return b"the router's own"

    async def done() -> bytes:
        transport, _ = await answering_datagrams(OWN, igd.SEARCH_PORT, answer)
        try:
            return await searched(HERE, OWN)
        finally:
            transport.close()

    assert asyncio.run(done()) == b"the router's own"


FOREIGN = {
    "of another name": (["elsewhere.example. 60 IN A 192.0.1.66"], "answers for elsewhere.example, not for tides"),
    "behind an alias": ([f"{NAME}. 60 IN CNAME a.example.", "a.example. 60 IN A 192.0.1.61"], ""),
    "beside an alias that leads elsewhere": (
        [f"{NAME}. 60 IN CNAME a.example.", "b.example. 60 IN A 192.0.1.66"],
        "answers for b.example, not for tides",
    ),
}


@pytest.mark.parametrize("name", FOREIGN)
def test_records_of_another_owner_are_no_answer(name: str) -> None:
    records, why = FOREIGN[name]

    class Resolver:
        async def ask(self, address: str, port: int, question: bytes) -> bytes:
            asked = dns.message.from_wire(question)
            reply = dns.message.make_response(asked)
            for each in records if asked.question[0].rdtype == dns.rdatatype.A else ():
                owner, ttl, _, kind, value = each.split()
                reply.answer.append(dns.rrset.from_text(owner, int(ttl), "IN", kind, value))
            return reply.to_wire()

    learning = Learning()
    found = asyncio.run(name_seen(Resolver(), NAME, (SEEN,), learning, Asks(print)))  # type: ignore[arg-type]
    assert [str(each) for seen in found for each in seen.addresses] == ([] if why else ["192.0.1.61"])
    assert any(why in each.why for each in learning.unknown)


@pytest.mark.parametrize(("address", "even"), [("192.0.1.9", False), ("10.61.4.9", False), ("10.61.4.9", True)])
def test_a_server_that_only_a_resolver_names_is_said_before_it_is_asked_and_a_private_one_needs_a_word(
    address: str, even: bool
) -> None:
    said: list[str] = []
    learning = Learning()
    may = Asks(said.append, even).may(Address.parse(address), "its own server ns.example", learning)
    assert may == (even or address == "192.0.1.9")
    assert said == ([f"asking its own server ns.example at {address}, which only the resolver names"] if may else [])
    assert [each.ask for each in learning.unknown] == ([] if may else ["repeat it with --even-private"])


@pytest.mark.timeout(100)  # it takes a second; where the work grows with the square, an hour
def test_services_nested_into_each_other_cost_no_more_than_services_in_a_row() -> None:
    depth = 18_000
    page = b"<service>" * depth + b"</service>" * depth
    with pytest.raises(ValueError, match="no service of port mappings"):
        igd.control_of(b"<root>" + page + b"</root>", "http://10.61.4.1/")


def test_an_answer_that_is_never_understood_ends_at_the_limit_and_holds_nothing_up() -> None:
    script = "import asyncio, sys; sys.path[:] = sys.argv[1:]; from test_survey import never_understood as n; n()"
    done = subprocess.run([sys.executable, "-c", script, *sys.path], capture_output=True, text=True, timeout=120)
    assert (done.returncode, done.stdout) == (0, "an answer that is not understood within 0.2 s\n"), done.stderr


def never_understood() -> None:
    """Run by the test above in a process of its own, which has to end although its thread never does."""
    worker.SECONDS = 0.2

    def never() -> None:
        while True:
            pass

    try:
        asyncio.run(worker.understood(never))
    except ValueError as error:
        print(error)


def test_what_a_router_declines_is_told_in_words() -> None:
    with pytest.raises(ValueError, match="it is switched off"):
        nat_pmp.outside_address(bytes((0, 128, 0, 2)) + bytes(8))
    with pytest.raises(pcp.Refused, match="something translates between"):
        pcp.announced(bytes((2, 0x80, 0, pcp.ADDRESS_MISMATCH)) + bytes(20))
    with pytest.raises(igd.Declined, match="error 713"):
        igd.answered(b"<e><UPnPError><errorCode>713</errorCode></UPnPError></e>")


LISTING = """table inet f {
  chain input { type filter hook input priority 0; policy drop;
    ct state established,related accept
    tcp dport { 21, 8080, 61200-61455 } accept
  }
}
"""


def test_a_kept_filter_is_held_against_the_file_and_taken_over_with_what_listens(tmp_path: Path) -> None:
    kept = json.loads((CASES / "kept-survey.json").read_text())
    kept["host"]["filter"] = {"active": True, "detail": "2 rules", "by": "nft", "listing": LISTING}
    kept["host"]["listeners"] = [{"protocol": "tcp", "port": 2121, "by": "ss", "address": None, "program": "tideftpd"}]
    (tmp_path / "seen.json").write_text(json.dumps(kept))
    done = run("check", AFTER, "--survey", tmp_path / "seen.json", "--format", "json")
    (found,) = [each for each in json.loads(done.stdout)["findings"] if each["kind"] == "filter-differs"]
    assert found["severity"] == "breaks"
    assert "lets in port 8080, which the file does not, and stops port 22, which the file lets in" in found["message"]
    assert f"eager-lantern adopt {AFTER} {tmp_path / 'seen.json'} --device gauge-store" in found["advice"]
    done = run("adopt", AFTER, tmp_path / "seen.json", "--device", "gauge-store", "--format", "json")
    configs = json.loads(done.stdout)["configs"]
    assert [each["subject"] for each in configs] == ["rules", "listeners"]
    (differs, *_) = configs[1]["skipped"]
    assert "nothing listens on port 21 of gauge-store; there is tideftpd on port 2121" in differs["text"]


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="getent is a command of Linux")
def test_a_survey_asks_the_system_about_the_accounts_of_the_site_that_it_keeps(tmp_path: Path) -> None:
    raw = yaml.safe_load(AFTER.read_text())
    raw["accounts"] = [
        {"name": name, "service": "tide-exchange", "kept_by": kept_by}
        for name, kept_by in (("root", "system"), ("nobody-at-all", "directory"), ("daemon", "service"))
    ]
    (tmp_path / "a.site.yaml").write_text(json.dumps(raw))
    asked = ("--router", "127.61.7.1", "--resolver", "127.61.7.1")
    done = run("survey", tmp_path / "a.site.yaml", *asked, "--save", tmp_path / "seen.json")
    assert done.returncode == 1, done.stderr
    known, stranger = json.loads((tmp_path / "seen.json").read_text())["host"]["accounts"]
    root = pwd.getpwnam("root")
    home = Path(root.pw_dir).stat()
    assert (known["known"], known["shell"], known["home"]) == (True, root.pw_shell, root.pw_dir)
    assert (known["owner"], known["mode"]) == (pwd.getpwuid(home.st_uid).pw_name, f"{home.st_mode & 0o7777:o}")
    assert (stranger["name"], stranger["known"]) == ("nobody-at-all", False)
    assert "the server's system knows no account nobody-at-all" in done.stdout


async def is_not(vantage: Any) -> bool:
    return False


def test_a_system_that_is_no_linux_is_asked_about_accounts_by_its_own_database(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eager_lantern.live.survey.survey.is_linux", is_not)
    asked = {"router": Address.parse("127.61.7.1"), "resolver": Address.parse("127.61.7.1")}
    found = asyncio.run(survey(HERE, SurveyPlan(**asked, accounts=("root", "nobody-at-all")), (), print))
    root, stranger = found.host.accounts
    assert (root.known, root.home, stranger.known) == (True, pwd.getpwnam("root").pw_dir, False)
    assert "accounts" not in {each.topic for each in found.unknown}


@pytest.mark.parametrize(("code", "known"), [(0, [True]), (2, [False]), (5, [])])
def test_the_exit_code_of_net_user_is_whether_windows_knows_an_account(
    code: int, known: list[bool], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A stand-in for the system's program; what it prints is translated there, and is not read."""
    net = tmp_path / "System32" / "net.exe"
    net.parent.mkdir()
    net.write_text(f'#!/bin/sh\n[ "$*" = "user tide" ] || exit 9\necho "Benutzername  tide"\nexit {code}\n')
    net.chmod(0o700)
    monkeypatch.setenv("SYSTEMROOT", str(tmp_path))
    learning = Learning()
    found = asyncio.run(own_accounts("windows", ("tide",), learning))
    assert [each.known for each in found] == known
    assert [each.topic for each in learning.unknown] == ["accounts"] * (not known)
    assert [each.has_shell for each in found if each.known] == [None] * sum(known)


def test_a_name_is_no_option_of_the_command_that_is_asked_for_it() -> None:
    learning = Learning()
    assert asyncio.run(own_accounts("windows", ("/delete",), learning)) == ()
    assert [each.why for each in learning.unknown] == ["“/delete” begins with “/”, and would be taken for an option"]


MARKED = """table inet f {
  chain input { type filter hook input priority 0; policy accept; }
  chain answers { type route hook output priority mangle; policy accept; tcp sport 21 meta mark set 0x15; }
}
"""


@pytest.mark.kernel
@pytest.mark.skipif(bool(missing_means()), reason=missing_means() or "")
@pytest.mark.parametrize(("mark", "unknown"), [("0x15", {"21"}), ("0x16", set())])
def test_answers_that_a_mark_may_send_another_way_are_unknown_by_the_rules_that_a_survey_keeps(
    mark: str, unknown: set[str], tmp_path: Path
) -> None:
    (tmp_path / "rules.nft").write_text(MARKED)
    done = subprocess.run(
        [*UNSHARE, "sh", "-c", 'nft -f "$1" && ip rule add fwmark "$2" lookup 90 && shift 2 && exec "$@"', "sh",
         tmp_path / "rules.nft", mark, sys.executable, "-m", "eager_lantern", "survey", AFTER, "--router", "127.61.7.1",
         "--resolver", "127.61.7.1", "--save", tmp_path / "seen.json"],
        capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    assert done.returncode in (0, 1), done.stderr
    done = run("adopt", AFTER, tmp_path / "seen.json", "--device", "gauge-store", "--format", "json")
    (first, *_) = json.loads(done.stdout)["configs"]
    assert {each["value"]["ports"] for each in first["read"] if each["value"]["action"] == "unknown"} == unknown


def test_a_kept_survey_is_read_back_and_one_of_another_format_is_told(tmp_path: Path) -> None:
    kept = tmp_path / "s.json"
    first = run("survey", AFTER, "--router", "127.61.7.1", "--resolver", "127.61.7.1", "--save", kept)
    assert first.returncode in (0, 1), first.stderr
    done = run("check", AFTER, "--survey", kept, "--format", "json")
    result = result_of(done.stdout)
    assert (done.returncode, result["verdict"]) == (1, "broken")
    assert "listens-elsewhere" in {each["kind"] for each in result["findings"]}
    kept.write_text(kept.read_text().replace("survey/1", "survey/9"))
    done = run("check", AFTER, "--survey", kept)
    assert (done.returncode, "found the format “eager-lantern/survey/9”" in done.stderr) == (2, True)
    kept.write_text("{")
    done = run("check", AFTER, "--survey", kept)
    assert (done.returncode, "found no JSON; expected a result of survey" in done.stderr) == (2, True)


def test_an_address_at_which_a_lamp_was_seen_is_an_outside_one() -> None:
    (seen,) = set(reached_at(CASES / "kept-lamp.json"))
    assert seen == OutsideSeen(SEEN, "seen", "its lamp was seen so from pilot@field-station, in kept-lamp.json")


NOBODY = ("--router", "127.61.7.1", "--resolver", "127.61.7.1")


@loopback
class TestFarHost:
    pytestmark = needs_ssh

    @pytest.fixture
    def far(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[FarHost]:
        with far_host(tmp_path) as found:
            monkeypatch.setenv("PATH", found.path)
            yield found

    def test_a_host_that_is_reached_over_ssh_tells_of_itself(self, far: FarHost) -> None:
        done = run("survey", "--from", far.place, *NOBODY, "--format", "json")
        assert done.returncode in (0, 1), done.stderr
        host = result_of(done.stdout)["host"]
        assert (host["kind"], host["name"]) == ("linux", platform.node())
        assert {each["port"] for each in host["listeners"]} >= {int(far.place.rpartition(":")[2])}
        assert host["clock"]["offset_seconds"] == pytest.approx(0, abs=30)

    def test_whoever_sees_this_host_from_outside_tells_its_address_and_how_its_clock_goes(self, far: FarHost) -> None:
        done = run("survey", "--seen-by", far.place, *NOBODY, "--format", "json")
        assert done.returncode in (0, 1), done.stderr
        result = result_of(done.stdout)
        assert [(each["address"], each["means"]) for each in result["outside"]] == [("127.0.0.1", "ssh")]
        assert result["host"]["clock"]["by"].startswith("beside the clock of ")
        assert "clock" not in {each["topic"] for each in result["unknown"]}


class Late:
    """A host outside whose clock is some seconds before the one here, told as its ``date`` does."""

    name = "ssh://pilot@pier"

    def __init__(self, said: str) -> None:
        self._said = said

    async def seen_as(self) -> str:
        return str(SEEN)

    async def run(self, words: Sequence[str]) -> tuple[int, bytes]:
        now = time.time() + 3600
        return 0, self._said.format(now=now, whole=int(now)).encode()


@pytest.mark.parametrize(
    ("said", "offset"),
    [
        ("{now:.9f}\n", -3600),
        ("{whole}.N\n", -3600),
        ("{whole}\n", -3600),
        ("soon\n", None),
        ("-1\n", None),
        ("9" * 13, None),
    ],
)
def test_the_clock_here_is_held_against_that_of_who_sees_it_from_outside(said: str, offset: int | None) -> None:
    observer: Any = Late(said)
    host = SurveyedHost("h", "s", "linux", clock=ClockState("timedatectl", None, True))
    found = asyncio.run(outside_of_host(HERE, host, SurveyPlan(), [observer], print, Learning()))
    assert found.host.clock is not None
    assert found.host.clock.kept is True
    assert found.host.clock.offset_seconds == (None if offset is None else pytest.approx(offset, abs=5))


LACK = lacking()
VPN = """
ip tuntap add mode tun vpn0
ip address add 10.99.0.2/32 dev vpn0
ip link set vpn0 up
ip route replace default dev vpn0
"""
MAP = f"""
import socket
from eager_lantern.core.values.addresses import Address
from eager_lantern.wire.pcp import PORT, map_request
with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
    asked.settimeout(5)
    asked.sendto(map_request(Address.parse("{HOST}"), b"n" * 12, "tcp", 2121, 600), ("{ROUTER}", PORT))
    asked.recv(99)
"""
PLACES: dict[str, tuple[str, str, set[str]]] = {
    "one router": ("", "", {"one-outside-address"}),
    "two routers": ("router", "", {"second-router"}),
    "a carrier's translation": ("carrier", "", {"carrier-translates"}),
    "a tunnel": ("", VPN, {"tunnel-in-the-way"}),
}


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("name", PLACES)
def test_what_stands_between_a_host_and_the_internet_is_named_rightly(name: str, tmp_path: Path) -> None:
    before, change, kinds = PLACES[name]
    with survey_lab(tmp_path, before) as lab:
        lab.sh("host", change or "true")
        stun_server = () if change else ("--stun", OUTSIDE)
        done = lab.survey("--router", ROUTER, *stun_server, "--format", "json")
        result = result_of(done.stdout)
        assert {each["kind"] for each in result["conclusions"]} == kinds, done.stderr
        assert {each["means"] for each in result["outside"]} >= {"nat-pmp", "pcp", "upnp"}
        assert done.returncode == (0 if name == "one router" else 1)
        assert "61" not in lab.on("router", "nft", "list", "table", "inet", "mapped").stdout


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
def test_mappings_of_a_real_router_are_listed_and_a_name_that_lags_is_named(tmp_path: Path) -> None:
    with survey_lab(tmp_path) as lab:
        lab.names("router", ROUTER, f"--host-record={NAME},{OLD},240", f"--server=/saltmarsh.example/{OUTSIDE}")
        lab.waited("router", ROUTER, 53)
        lab.sh("host", f"{sys.executable} -c '{MAP}'")
        done = lab.survey("--name", NAME, "--resolver", ROUTER, "--stun", OUTSIDE, "--format", "json")
        result = result_of(done.stdout)
    assert [(each["port"], each["to"], each["to_port"]) for each in result["mappings"]] == [(2121, HOST, 2121)]
    (lags,) = (each for each in result["conclusions"] if each["kind"] == "name-lags")
    assert f"still has {OLD}" in lags["message"]
    assert f"its own servers have {PUBLIC}" in lags["message"]


def test_a_visit_that_fails_is_told_with_what_a_survey_of_the_server_says(tmp_path: Path) -> None:
    (tmp_path / "s.json").write_text((CASES / "kept-survey.json").read_text().replace("198.51.100.61", "198.51.100.99"))
    words = ["visit", AFTER, "--client", "institute", "--at", "127.0.0.1", "--port", "9"]
    words += ["--survey", tmp_path / "s.json"]
    result = result_of(run(*words, "--format", "json", EAGER_LANTERN_PASSWORD="x").stdout)
    assert "outside-differs" in {each["kind"] for each in result["surveyed"]}
    shown = run(*words, EAGER_LANTERN_PASSWORD="x").stdout
    assert "The survey differs from" in shown
    alone = run("visit", "127.0.0.1", "--survey", tmp_path / "s.json")
    assert (alone.returncode, "held against a site file" in alone.stderr) == (2, True)
