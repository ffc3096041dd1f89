"""A phone's browser at a lamp: what it sees through the packet filter, who gets an answer, and how codes are read."""

import asyncio
import contextlib
import io
import json
import random
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
import yaml
from at_host import done_at
from browser import Browser, needs_chromium
from hypothesis import given
from hypothesis import strategies as st
from plans import phone_plan_for
from program import AFTER, BEFORE, DATA, result_of, run
from rich.console import Console

from eager_lantern.cli import lamp_phone
from eager_lantern.cli.arguments.options import Format
from eager_lantern.core.network.topology import Topology, listens_on
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.kernel.lab import KernelLab, missing_means
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.tasks.tasks import Start, StopServers
from eager_lantern.live.lamp.listener import Lamp
from eager_lantern.live.lamp.phone import (
    MOST_VISITS,
    QUIET_SECONDS,
    TOKEN_SECONDS,
    DeskSetup,
    PageReply,
    PhoneDesk,
)
from eager_lantern.views.phone import Code
from eager_lantern.wire.lamp import is_sealed, sealed
from eager_lantern.wire.phone import MOST_BODY, HttpQuestion, NoQuestion

LACK = missing_means()
TESTS = Path(__file__).parent
CASES = TESTS / "cases"
OLD = next((str(each) for each in Path.home().glob(".pyenv/versions/3.9*/bin/python3")), shutil.which("python3.9"))
PHONES = yaml.safe_load((CASES / "phones.yaml").read_text())


def written(case: dict[str, Any], folder: Path) -> Path:
    text = case.get("site") or (DATA / case["shipped"]).read_text()
    for key, value in case.get("set", {}).items():
        text = text.replace("    translate: outward\n", f"    translate: outward\n    {key}: {str(value).lower()}\n", 1)
    path = folder / "phone.site.yaml"
    path.write_text(text)
    return path


@pytest.mark.kernel
@pytest.mark.lab
@pytest.mark.browser
@pytest.mark.skipif(bool(LACK), reason=LACK)
@needs_chromium
@pytest.mark.parametrize("case", PHONES, ids=[each["name"] for each in PHONES])
def test_page_terminal_and_prediction_agree_port_by_port_with_what_the_kernel_lets_through(
    case: dict[str, Any], tmp_path: Path
) -> None:
    path = written(case, tmp_path)
    topology = Topology(read_site(path).site)
    server = str(topology.server.addresses.each[0])
    log, page, seen = (tmp_path / name for name in ("lamp.log", "page.json", "seen.json"))
    lamp = (sys.executable, "-m", "eager_lantern", "lamp", str(path), "--service", "tide-exchange", "--phone")
    player = (sys.executable, str(TESTS / "phone_player.py"), str(log), str(page), case["dials"], "21")
    with KernelLab(lab_nodes(topology.site)) as lab:
        words = (*lamp, "--lasts", "150 s", "--save", str(seen), *case.get("words", ()))
        lab.do(topology.server.name, Start(words, server, 21, log))
        done_at(lab, topology.host(case["phone"]), tmp_path, f"PYTHONPATH={TESTS}", *player)
        lab.do(topology.server.name, StopServers())
    shown = json.loads(page.read_text())
    wanted = {name: str(PortSet.parse(case.get(name, ""))) for name in ("arrives", "refused", "silent")}
    assert {**dict.fromkeys(wanted, ""), **shown["rows"]} == wanted
    (place,) = json.loads(seen.read_text())["places"]
    (sweep,) = place["sweeps"]
    assert [sweep["ok"], sweep["refused"], sweep["silent"]] == list(wanted.values())
    assert (place["predicted"], place["ledger"]["measured"], place["knocks"] > 0) == (*[wanted["arrives"]] * 2, True)
    told = log.read_text()
    assert re.search(rf"arrive at the lamp +▆\S* +{re.escape(wanted['arrives'])} ", told)
    assert "Measured and predicted agree on every port." in told
    assert "Port 21: 1 connection from the phone's address. Any program there could have made it." in told
    doubt = {"outside": False, "inside": True, "hairpin": True}[case["stands"]]
    assert (("no test from outside" in told), "This was no test from outside" in shown["text"]) == (doubt, doubt)
    assert shown["reused"] is False
    beside = result_of(run("check", path, "--seen", seen, "--format", "json").stdout)
    assert (beside["lit"][0]["predicted"], beside["lit"][0]["sweeps"][0]["ok"]) == (*[wanted["arrives"]] * 2,)


class Clocked:
    """A desk whose clock is moved by hand."""

    def __init__(self) -> None:
        plan = phone_plan_for(AFTER, "21, 61200-61209")
        assert plan is not None
        self.plan, self.now = plan, 0.0
        self.desk = PhoneDesk(DeskSetup(plan, b"the page", "default-src 'none'", lambda _: "outside", lambda: self.now))

    def asks(self, line: str, host: str = "198.51.100.61:61200", origin: str = "", body: str = "") -> PageReply | None:
        asked = HttpQuestion()
        fields = [f"Host: {host}", *([f"Origin: {origin}"] if origin else []), f"Content-Length: {len(body)}"]
        try:
            asked.take("\r\n".join([f"{line} HTTP/1.1", *fields, "", body]).encode())
        except NoQuestion:
            return None
        assert asked.head is not None
        if not self.desk.admits(asked.head):
            return None
        return self.desk.reply(asked.head, asked.body, "203.0.113.9", 61200)

    def begun(self) -> str:
        reply = self.asks(f"POST /{self.desk.token}/begin", origin="http://198.51.100.61:61200")
        assert reply is not None
        key: str = json.loads(reply.body)["key"]
        return key


OURS = "http://198.51.100.61:61200"


def test_a_token_gets_the_page_until_it_is_used_and_no_other_gets_a_byte() -> None:
    at = Clocked()
    token = at.desk.token
    page = at.asks(f"GET /{token}")
    assert page is not None
    assert (page.body, page.headers["Cache-Control"]) == (b"the page", "no-store")
    assert "Set-Cookie" not in page.headers
    assert at.asks(f"GET /{token.upper()}") is not None  # as a phone's keyboard may have it
    for line, host, origin in [
        ("GET /", OURS[7:], ""), (f"GET /{token[:-1]}b", OURS[7:], ""), (f"GET /{token}/", OURS[7:], ""),
        (f"GET /{token}", "tides.saltmarsh.example:61200", ""), (f"GET /{token}", "198.51.100.61:61205", ""),
        (f"HEAD /{token}", OURS[7:], ""), (f"GET /{token}/here", "198.51.100.61:61205", OURS),
        (f"POST /{token}/begin", OURS[7:], ""), (f"POST /{token}/begin", OURS[7:], "http://elsewhere.example"),
        (f"POST /{token}/begin", OURS[7:], "null"), (f"GET /{token}", OURS[7:], "http://elsewhere.example"),
    ]:  # fmt: skip
        assert at.asks(line, host, origin) is None, (line, host, origin)
    key = at.begun()
    assert key != token
    assert (at.desk.token, at.asks(f"GET /{token}"), at.asks(f"POST /{token}/begin", origin=OURS)) == ("", None, None)


def test_a_sweep_is_what_the_lamp_saw_and_of_other_ports_what_the_page_reports() -> None:
    at = Clocked()
    key = at.begun()
    for port in (61201, 61202):
        here = at.asks(f"GET /{key}/here", f"198.51.100.61:{port}", OURS)
        assert here is not None
        assert here.headers["Access-Control-Allow-Origin"] == OURS
    assert at.asks(f"GET /{key}/here", "198.51.100.61:61203", "http://elsewhere.example") is None
    at.asks(f"GET /{key}/here", "198.51.100.61:7", OURS)  # which is none of the plan's
    report = {"refused": [61202, 61204, 9], "silent": [61205], "done": True}
    reply = at.asks(f"POST /{key}/fates", origin=OURS, body=json.dumps(report))
    assert reply is not None
    shown = json.loads(reply.body)
    assert (shown["arrives"], shown["refused"], shown["silent"]) == ([61201, 61202], [61204], [61205])
    assert shown["moved"] == {"61201": 61200, "61202": 61200}
    assert at.asks(f"POST /{key}/fates", origin=OURS, body='{"refused": [0], "silent": [], "done": 1}') is None
    at.desk.came("203.0.113.9", 21)
    at.desk.came("192.0.2.7", 21)
    at.desk.came("203.0.113.9", 61200)
    assert at.desk.visits[-1].knocks == 1
    assert at.asks(f"POST /{key}/begin", origin=OURS) is not None  # the page may test again
    assert at.asks(f"GET /{key}/here", "198.51.100.61:61201", OURS) is None  # and has a new key then
    for _ in range(2 * MOST_VISITS):
        at.asks(f"POST /{at.desk.visits[-1].key}/begin", origin=OURS)
    assert len(at.desk.visits) == MOST_VISITS


def test_a_browser_that_insists_on_https_is_noticed_and_gets_not_a_byte() -> None:
    async def met() -> tuple[bytes, str]:
        lamp, at = Lamp(b"a secret"), Clocked()
        assert await lamp.light(["127.0.0.1"], [61200], ["tcp"]) == []
        lamp.receive(at.desk)
        reader, writer = await asyncio.open_connection("127.0.0.1", 61200)
        writer.write(b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03" + bytes(500))
        heard = b""
        with contextlib.suppress(ConnectionError):
            heard = await reader.read()
        writer.close()
        await lamp.put_out()
        return heard, at.desk.tls_from

    assert asyncio.run(met()) == (b"", "127.0.0.1")


def test_what_takes_too_long_is_over_and_another_token_is_on_offer() -> None:
    at = Clocked()
    first = at.desk.token
    at.now = TOKEN_SECONDS + 1
    assert at.asks(f"GET /{first}") is None
    second = at.desk.token
    assert second not in ("", first)
    key = at.begun()
    at.now += QUIET_SECONDS - 1
    assert at.asks(f"GET /{key}/here", "198.51.100.61:61201", OURS) is not None
    at.now += QUIET_SECONDS + 1
    at.desk.look_at_clock()
    assert (at.desk.busy, at.desk.visits[-1].done, at.desk.token in ("", second)) == (False, False, False)


def test_fifty_thousand_damaged_requests_get_no_answer_but_for_what_was_asked_rightly() -> None:
    chance, at = random.Random(61), Clocked()
    right = f"GET /{at.desk.token} HTTP/1.1\r\nHost: 198.51.100.61:61200\r\nAccept: */*\r\n\r\n".encode()
    lines = [right, b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", b"\x16\x03\x01\x02\x00", b"GET / HTTP/1.1\r\nHost: a\r\n\r\n"]
    for _ in range(50_000):
        line = bytearray(chance.choice(lines))
        for _ in range(chance.randint(1, 3)):
            place = chance.randint(0, len(line))
            line[place : place + chance.randint(0, 3)] = chance.randbytes(chance.randint(0, 3))
        asked = HttpQuestion()
        try:
            asked.take(bytes(line))
        except NoQuestion:
            continue
        if asked.head is not None and at.desk.admits(asked.head):
            assert at.desk.token.encode() in bytes(line).lower()
            assert re.search(rb"(?i)host: *198\.51\.100\.61:61200[ \t]*\r?\n", bytes(line))


def test_a_head_without_end_and_a_body_without_end_are_no_question() -> None:
    def fed(asked: HttpQuestion, piece: bytes) -> None:
        for _ in range(100_000):
            asked.take(piece)

    with pytest.raises(NoQuestion):
        fed(HttpQuestion(), b"GET /aaaaaaaa")
    asked = HttpQuestion()
    asked.take(f"POST /{'a' * 26}/fates HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n".encode())
    with pytest.raises(NoQuestion):
        fed(asked, b"a\r\n0123456789\r\n")
    assert len(asked.body) < MOST_BODY


@pytest.mark.browser
@needs_chromium
@pytest.mark.skipif(shutil.which("zbarimg") is None, reason="zbarimg is missing: install the package zbar-tools")
@pytest.mark.parametrize("host", ["198.51.100.61", "[2001:db8:61::20]"])
def test_the_code_on_a_screenshot_of_the_terminal_leads_to_the_address(host: str, tmp_path: Path) -> None:
    address = f"http://{host}:61200/k3v7qcbwbuvhl5s2nzofk6wxtj"
    terminal = Console(file=io.StringIO(), record=True, force_terminal=True, color_system="truecolor", width=80)
    terminal.print(Code(address))
    (tmp_path / "terminal.html").write_text(terminal.export_html(inline_styles=True, code_format=PAPER))
    with Browser(tmp_path / "profile") as screen:
        assert screen.opens((tmp_path / "terminal.html").as_uri())
        screen.picture(tmp_path / "code.png")
    read = subprocess.run(["zbarimg", "-q", "--raw", tmp_path / "code.png"], capture_output=True, text=True)
    assert read.stdout.strip() == address


@pytest.mark.skipif(shutil.which("zbarimg") is None, reason="zbarimg is missing: install the package zbar-tools")
def test_the_code_on_the_picture_of_a_real_terminal_is_read() -> None:
    shot = TESTS.parent / "docs" / "screenshots" / "lamp.png"
    read = subprocess.run(["zbarimg", "-q", "--raw", shot], capture_output=True, text=True)
    assert re.fullmatch(r"http://198\.51\.100\.61:61200/[a-z2-7]{26}", read.stdout.strip())


PAPER = "<pre style=\"font: 16px/16px 'DejaVu Sans Mono'; background: #14202a\">{code}</pre>"


def test_where_nobody_opens_the_page_another_port_is_proposed_and_then_another_place(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(lamp_phone, "OPEN_SECONDS", 0.01)
    source = read_site(BEFORE)
    found = lamp_phone.Reception(source, source.site.services[0], lamp_phone.Phones(phone=True), Format.text)

    async def received() -> None:
        ended = asyncio.Event()
        waiting = asyncio.create_task(found.receive(Lamp(b"a secret"), listens_on(source.site.services[0]), [], ended))
        while "Try from another place" not in (told := told_so_far()):
            await asyncio.sleep(0.05)
        ended.set()
        await waiting
        assert re.findall(r"http://198.51.100.61:(\d+)/", told) == ["61200", "61327", "61263"]
        assert "Then port 61200 does not arrive there: that is a first result." in told

    text = ""

    def told_so_far() -> str:
        nonlocal text
        text += capsys.readouterr().out
        return text

    asyncio.run(received())
    assert "No phone has tried ports 61200-61455: nothing is known." in told_so_far()
    assert found.code == 3


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--client", "field-station"], "--client: only with --phone, which is not given"),
        (["--phone", "--client", "buoy"], "there is no “buoy”"),
        (["--phone", "--ports", "21, 22"], "no browser goes to 21-22, and nothing else is lit"),
        (["--phone", "--at", "tides"], "--at: found “tides”"),
        (["--phone", "--force"], "--force: it goes with --save"),
    ],
)
def test_what_no_phone_can_do_is_a_clear_line(words: list[str], told: str) -> None:
    done = run("lamp", AFTER, *words)
    assert (done.returncode, told in " ".join(done.stderr.split())) == (2, True), done.stderr


class TestCarried:
    @pytest.mark.kernel
    @pytest.mark.lab
    @pytest.mark.skipif(bool(LACK), reason=LACK)
    def test_a_host_that_has_only_an_old_python_brings_back_what_the_kernel_lets_through(self, tmp_path: Path) -> None:
        topology, probe = Topology(read_site(BEFORE).site), tmp_path / "probe.py"
        made = result_of(
            run("visit", BEFORE, "--client", "institute", "--carry", probe, "--at", SEEN, "--format", "json").stdout
        )
        assert len(probe.read_bytes()) < 60_000
        lamp = ("env", f"EAGER_LANTERN_LAMP={made['secret']}", sys.executable, "-m", "eager_lantern", "lamp")
        with KernelLab(lab_nodes(topology.site)) as lab:
            server = str(topology.server.addresses.each[0])
            words = (*lamp, str(BEFORE), "--lasts", "150 s")
            lab.do(topology.server.name, Start(words, server, 21, tmp_path / "lamp.log"))
            told = done_at(lab, topology.host("institute"), tmp_path, "A=1", OLD or sys.executable, "-I", str(probe))
        (back,) = tmp_path.glob("probe-result-*.json")
        assert "ports 61200-61327 over TCP: reached" in told
        secret = {"EAGER_LANTERN_LAMP": made["secret"]}
        found = result_of(run("check", BEFORE, "--seen", back, "--format", "json", **secret).stdout)["lit"][0]
        assert [each["ok"] for each in found["sweeps"]] == ["21", "61200-61327"]
        assert (found["sweeps"][1]["silent"], found["sweeps"][0]["seen_from"]) == ("61328-61455", ["192.0.2.40"])
        why = result_of(run("diagnose", BEFORE, "--seen", back, "--format", "json", **secret).stdout)
        assert [each["kind"] for each in why["groups"][0]["causes"]] == ["range-mismatch"]
        for name, value in [("another", "a secret that is another one"), ("none", "")]:
            done = run("diagnose", BEFORE, "--seen", back, EAGER_LANTERN_LAMP=value)
            assert (done.returncode, "EAGER_LANTERN_LAMP" in done.stderr) == (2, True), name

    @given(st.data())
    def test_a_result_of_which_one_byte_is_another_is_refused(self, data: st.DataObject) -> None:
        whole = sealed(b"a secret", json.dumps(CARRIED).encode())
        assert is_sealed(b"a secret", whole)
        at = data.draw(st.integers(0, len(whole)))
        byte = bytes([data.draw(st.integers(0, 255))])
        for altered in (
            whole[:at] + byte + whole[at + 1 :],
            whole[:at] + byte + whole[at:],
            whole[:at] + whole[at + 1 :],
        ):
            assert altered == whole or not is_sealed(b"a secret", altered)
        assert not is_sealed(b"another", whole)

    def test_what_a_probe_cannot_know_is_not_observed(self, tmp_path: Path) -> None:
        def diagnosed(**fields: Any) -> tuple[int, str]:
            kept = tmp_path / "back.json"
            kept.write_bytes(sealed(b"a secret of the probe", json.dumps({**CARRIED, **fields}).encode()))
            done = run("diagnose", AFTER, "--seen", kept, EAGER_LANTERN_LAMP="a secret of the probe")
            assert done.stderr == ""
            return done.returncode, " ".join(done.stdout.split())

        dark = {**SWEPT, "ok": "", "refused": "61200-61455"}
        control = {**SWEPT, "ok": "21"}
        assert diagnosed(sweeps=[control, SWEPT])[0] == 0
        assert diagnosed(sweeps=[control, dark])[0] == 1
        greets = diagnosed(sweeps=[{**control, "ok": "", "wrong": "21"}, dark], greeting="220 ready")
        assert greets[0] == 3  # a server greets, and no lamp tells of its data ports
        assert diagnosed(sweeps=[], address="")[0] == 1  # a name that leads nowhere

    @pytest.mark.parametrize(
        ("words", "told"),
        [
            (["tides.saltmarsh.example"], "--carry: a probe is of a site file"),
            ([AFTER], "--client is needed"),
            ([AFTER, "--client", "buoy"], "there is no “buoy”"),
            ([AFTER, "--client", "institute", "--save", "x", "--lamp"], "--lamp and --save: of a visit from here"),
        ],
    )
    def test_what_no_probe_can_be_of_is_a_clear_line(self, words: list[object], told: str, tmp_path: Path) -> None:
        done = run("visit", *words, "--carry", tmp_path / "probe.py")
        assert (done.returncode, told in " ".join(done.stderr.split())) == (2, True), done.stderr
        assert list(tmp_path.iterdir()) == []


SEEN = "198.51.100.61"
SWEPT = {
    "target": SEEN, "protocol": "tcp", "ok": "61200-61455", "refused": "", "silent": "", "wrong": "", "unknown": "",
    "crowded": "", "rewritten": {}, "seen_from": ["192.0.2.40"],
}  # fmt: skip
CARRIED = {
    "format": "eager-lantern/carried/1", "site": "Saltmarsh Tide Survey", "service": "tide-exchange",
    "client": "institute", "time": "2026-12-01T08:00:00Z", "host": "tides.saltmarsh.example", "address": SEEN,
    "greeting": "", "sweeps": [SWEPT],
}  # fmt: skip
