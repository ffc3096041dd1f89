"""What real devices and servers say of themselves (public interface of those), read back: nothing is lost, nothing is
taken for what it is not."""

import json
import os
import random
import re
import shutil
import subprocess
import sys
from difflib import ndiff
from pathlib import Path
from typing import Any

import pytest
import trustme
import yaml
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from program import AFTER, BEFORE, DATA, result_of, run
from random_sites import sites
from working_sites import working_site

from eager_lantern.core.changes.adopted import adopted, changes_between
from eager_lantern.core.changes.steps import Overlay
from eager_lantern.core.model.change import changed
from eager_lantern.core.model.entries import OWN
from eager_lantern.core.model.site import Gateway, GatewayFilter, Service, Site, Tls
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.access import access, more
from eager_lantern.core.sheets.gateway import gateway_sheet
from eager_lantern.core.sheets.server import server_sheet
from eager_lantern.core.sheets.sheet import Grid, Sheet
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import files_of, read_files
from eager_lantern.formats.devices.tables.entries import read_rule_tables
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.lab.daemons.proftpd import daemon
from eager_lantern.views.pages import grid_csv

CASES = Path(__file__).parent / "cases"
QUICK = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), phases=[Phase.generate])


def tables(sheet: Sheet, head: str) -> list[Grid]:
    """The tables of a page that have this head."""
    return [part.grid for part in sheet.parts if part.grid is not None and head in part.grid.heads]


def through_the_pages(site: Site) -> Site:
    """The site with its devices' forwards and filters emptied and read again from their pages."""
    for gateway in site.gateways:
        sheet = gateway_sheet(site, gateway, (), (), frozenset())
        site = adopted(_emptied(site, gateway), gateway.name, "", "in", _readings(sheet, "outside ports"))
        filters = tables(sheet, "do")
        for title, direction in (("in from outside", "in"), ("out from inside", "out")):
            mine = [part.grid for part in sheet.parts if part.grid in filters and title in part.title]
            readings = [
                config for each in mine if each is not None for config in read_rule_tables("page", grid_csv(each))
            ]
            site = adopted(site, gateway.name, "", "in" if direction == "in" else "out", readings)
    return site


def _readings(sheet: Sheet, head: str) -> list[Any]:
    return [config for each in tables(sheet, head) for config in read_rule_tables("page", grid_csv(each))]


def _emptied(site: Site, gateway: Gateway) -> Site:
    """Forwards taken out; of the filters what a page does not list is open."""
    bare = replace(gateway, forwards=(), filter=GatewayFilter())
    return replace(site, gateways=tuple(bare if each is gateway else each for each in site.gateways))


@QUICK
@given(sites())
def test_forwards_and_filters_read_from_their_pages_let_through_the_same(data: dict[str, Any]) -> None:
    site = parse_site("random", json.dumps(data)).site
    again = through_the_pages(site)
    assert more(access(site), access(again)) == ()
    assert more(access(again), access(site)) == ()


@pytest.mark.parametrize("path", sorted(DATA.glob("*.site.yaml")), ids=lambda path: path.name)
def test_settings_read_from_the_pages_of_shipped_sites_are_theirs(path: Path) -> None:
    site = read_site(path).site
    sheet = server_sheet(site, None, frozenset())
    for service in site.services:
        grid = next((part.grid for part in sheet.parts if part.title == f"Service {service.name}"), None)
        if grid is None:
            continue
        (reading,) = read_files({"page.csv": grid_csv(grid)}, DeviceTarget(site, site.server.name))
        assert adopted(site, site.server.name, service.name, "in", [reading]) == site


@QUICK
@given(
    st.integers(0, 10_000),
    st.sampled_from(["on", "ctrl", "off"]),
    st.booleans(),
    st.sampled_from(["explicit", "implicit"]),
)
def test_the_configuration_of_a_daemon_is_read_as_the_service_that_it_was_written_for(
    seed: int, required: str, reuse: bool, mode: str
) -> None:
    site = parse_site("working", json.dumps(working_site(random.Random(seed)))).site
    service = site.services[0]
    if service.protocol != "ftp":
        return
    tls = Tls(
        mode="explicit" if mode == "explicit" else "implicit", required=required != "off",
        protects_data=required != "ctrl", reuse_required=reuse, names=service.tls.names,
    )  # fmt: skip
    announced = service.passive and replace(service.passive, announce_inside=None)
    written = replace(service, tls=tls, passive=announced, active=None, peer_must_match=True)
    text = _configured(site, written)
    (reading,) = read_files({"proftpd.conf": text}, DeviceTarget(site, site.server.name))  # public interface
    bare = Service(name=written.name, protocol="ftp", control_port=written.control_port, tls=Tls(names=tls.names))
    found = adopted(replace(site, services=(bare,)), site.server.name, bare.name, "in", [reading]).services[0]
    assert (found.control_port, found.passive, found.tls) == (written.control_port, written.passive, written.tls)


def _configured(site: Site, service: Service) -> str:
    """What the lab writes for the real daemon."""
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "daemon"
        daemon(Topology(replace(site, services=(service,))), service, (), folder, Path("/served.pem"))
        return (folder / "proftpd.conf").read_text()


@pytest.mark.skipif(shutil.which("sshd", path="/usr/sbin:/usr/bin") is None, reason="sshd is missing")
def test_what_sshd_prints_of_itself_is_read(tmp_path: Path) -> None:
    key = tmp_path / "key"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
    (tmp_path / "conf").write_text(f"Port 2222\nHostKey {key}\nChrootDirectory /srv/tides\nAllowUsers station\n")
    Path("/run/sshd").mkdir(exist_ok=True)
    done = subprocess.run(["/usr/sbin/sshd", "-T", "-f", tmp_path / "conf"], capture_output=True, text=True, check=True)
    site = read_site(AFTER).site
    (reading,) = read_files({"printed": done.stdout}, DeviceTarget(site, site.server.name))
    assert [(each.key, str(each.value)) for each in reading.values] == [(("control_port",), "2222")]
    assert {each.text.split()[0] for each in reading.skipped} == {"chrootdirectory", "allowusers"}


TABLES = yaml.safe_load((CASES / "adopted.yaml").read_text())


@pytest.mark.parametrize("case", TABLES, ids=lambda case: case["name"])
def test_a_file_of_a_device_is_read_as_what_it_means(case: dict[str, Any], tmp_path: Path) -> None:
    site, file = tmp_path / "pier.site.yaml", tmp_path / case.get("file", "read.csv")
    before = DATA / f"{case.get('site', BEFORE.name.removesuffix('.site.yaml'))}.site.yaml"
    shutil.copy(before, site)
    file.write_bytes(case["text"].encode(case.get("encoding", "utf-8")))
    done = run("adopt", site.name, file.name, *case.get("words", ()), "--write", cwd=tmp_path)
    assert done.returncode == case["code"], done.stdout + done.stderr
    text = site.read_text() + " ".join(done.stdout.split()) if done.returncode != 2 else done.stderr
    for each in case["says"]:
        assert each in text
    if done.returncode == 2:
        assert site.read_text() == before.read_text()


def test_a_long_table_is_read_whole_and_shown_in_part(tmp_path: Path) -> None:
    rows = "".join(f"allow,tcp,{30000 + i},10.{i % 200}.0.0/24,r{i}\n" for i in range(1000))
    (tmp_path / "read.csv").write_text(f"do,protocol,ports,from,name\n{rows}")
    done = run("adopt", AFTER, tmp_path / "read.csv", "--device", "gauge-store")
    assert "1,000 rules" in done.stdout
    assert "more lines (--all shows them)" in done.stdout


def test_what_stays_in_a_list_keeps_its_lines_and_remarks_whatever_comes_between(tmp_path: Path) -> None:
    site, was = tmp_path / "pier.site.yaml", AFTER.read_text()
    was = was.replace("        - {name: data,", "        # handed out\n        - {name: data,")
    was = was.replace("ports: 22, from: 10.61.4.0/24}", "ports: 22, from: 10.61.4.0/24}   # ours")
    site.write_text(was)
    rows = ("deny,any,all,203.0.113.99,", "allow,tcp,21,any,control", "allow,tcp,80,any,pages",
            "allow,tcp,61200-61455,any,data", "allow,tcp,22,10.61.4.0/24,remote-desk")  # fmt: skip
    (tmp_path / "read.csv").write_text("\n".join(["do,protocol,ports,from,name", *rows, ""]))
    done = run("adopt", site, tmp_path / "read.csv", "--device", "gauge-store", "--write")
    assert done.returncode in (0, 1), done.stderr
    added = [each for each in ndiff(was.splitlines(), site.read_text().splitlines()) if each[0] != " "]
    assert [each[:2] for each in added] == ["+ ", "+ "]
    assert ["203.0.113.99" in added[0], "pages" in added[1]] == [True, True]


def test_the_written_file_keeps_its_comments_and_says_where_each_part_was_read(tmp_path: Path) -> None:
    site = tmp_path / "pier.site.yaml"
    site.write_text(BEFORE.read_text().replace("61200-61327, to: 10.61.4.20}", "61200-61327, to: 10.61.4.20}  # ours"))
    (tmp_path / "read.csv").write_text(
        "name,ports,inside address\ncontrol,21,10.61.4.20\ndata,61200-61455,10.61.4.20\n"
    )
    words = ("adopt", "pier.site.yaml", "read.csv", "--device", "harbour-router")
    result = result_of(run(*words, "--format", "json", cwd=tmp_path).stdout)
    assert (result["written"], [each["turn"] for each in result["comparison"]["promises"]].count("gained")) == (
        False,
        1,
    )
    assert run(*words, "--write", cwd=tmp_path).returncode == 0
    changed_lines = set(site.read_text().splitlines()) - set(BEFORE.read_text().splitlines())
    assert changed_lines == {"      - {name: data, protocol: tcp, ports: 61200-61455, to: 10.61.4.20}  # ours"}
    assert "the same" in run(*words, cwd=tmp_path).stdout


@QUICK
@given(sites(), sites())
def test_the_changes_between_two_sites_lead_from_one_to_the_other_but_for_the_order(
    one: dict[str, Any], two: dict[str, Any]
) -> None:
    before = parse_site("random", json.dumps(one)).site
    other = parse_site("random", json.dumps(two)).site
    after = replace(before, gateways=tuple(
        replace(mine, forwards=theirs.forwards, filter=theirs.filter)
        for mine, theirs in zip(before.gateways, (*other.gateways, *before.gateways), strict=False)
    ))  # fmt: skip
    found = changed(before, *changes_between(before, Overlay(before, after)))
    for mine, theirs in zip(found.gateways, after.gateways, strict=True):
        assert sorted(map(str, mine.forwards)) == sorted(map(str, theirs.forwards))
        assert mine.filter.inward.default == theirs.filter.inward.default
        assert sorted(map(str, mine.filter.outward.rules)) == sorted(map(str, theirs.filter.outward.rules))


def test_what_is_adopted_from_a_table_of_rules_takes_the_place_of_the_filter() -> None:
    site = read_site(AFTER).site
    text = 'no.,do,protocol,ports,from\n1,allow,TCP,21,anywhere\nlast,"refuse, with a reset",any,all others,anywhere\n'
    found = adopted(site, site.server.name, "", "in", read_rule_tables("read.csv", text))
    incoming = found.server.filter.incoming
    assert [str(each.ports) for each in incoming.rules] == ["21"]
    assert (incoming.default, incoming.refuses_with) == ("refuse", "reset")
    assert found.server.filter.outgoing == site.server.filter.outgoing


def test_without_a_site_file_a_first_one_says_what_was_seen_and_marks_what_was_not(tmp_path: Path) -> None:
    survey, visit = CASES / "kept-survey.json", CASES / "kept-range.json"
    done = run("adopt", survey, visit, "--save", tmp_path / "x.site.yaml", "--format", "json")
    result = result_of(done.stdout)
    seen = {each["key"]: (each["answer"], each["doubt"]) for each in result["seen"]}
    assert seen["address"] == ("10.61.4.20", "")
    assert seen["outside"] == ("198.51.100.61", "")
    assert seen["clients_can"] == ("tls", "")
    assert seen["ports"] == ("61200-61455", "the ends may lie further out; look at the server's setting")
    text = (tmp_path / "x.site.yaml").read_text()
    site = read_site(tmp_path / "x.site.yaml").site
    assert [(str(each.ports), str(each.to)) for each in site.gateways[0].forwards] == [("21", "10.61.4.20")]
    lines = [line for line in text.splitlines() if "not seen" in line]
    assert len(lines) >= 5
    assert all(f"? not seen: {word}" in text for word in ("its filter", "account, folder, rights"))
    assert any("address: 10.61.4.20   # as kept-survey.json" in line for line in text.splitlines())


def test_a_sweep_over_a_lamp_tells_what_was_typed_and_which_ports_came_through(tmp_path: Path) -> None:
    file = tmp_path / "x.site.yaml"
    done = run("adopt", CASES / "kept-lamp.json", "--save", file, "--format", "json")
    result = json.loads(done.stdout)
    seen = {each["key"]: (each["answer"], each["doubt"]) for each in result["seen"]}
    assert seen["typed"] == ("198.51.100.61", "")
    assert seen["ports"] == ("61200-61327", "the ends may lie further out; look at the server's setting")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('{"format": "eager-lantern/lamp/1"}', "found a damaged result of lamp"),
        ('{"format": "eager-lantern/walk/1"}', "expected a result of survey or visit or lamp"),
        ('{"format": "eager-lantern/survey/1"', "found no JSON"),
        (
            '{"format": "eager-lantern/visit/1", "taken": {"time": "", "host": "", "tool": ""}, "promises": []}',
            "nothing",
        ),
    ],
)
def test_a_result_that_tells_of_no_site_makes_none(text: str, says: str, tmp_path: Path) -> None:
    (tmp_path / "r.json").write_text(text)
    done = run("adopt", tmp_path / "r.json", "--save", tmp_path / "x.site.yaml")
    assert (done.returncode, says in done.stderr, (tmp_path / "x.site.yaml").exists()) == (2, True, False)


SBIN = "/usr/sbin:/usr/bin:/sbin:/bin"


def with_service(service: dict[str, Any]) -> Site:
    """The mended site with another service."""
    raw = yaml.safe_load(AFTER.read_text())
    raw["services"][0] = {**raw["services"][0], **service}
    return parse_site("fragment", json.dumps(raw)).site


MODES = [("none", False), ("explicit", False), ("explicit", True), ("implicit", True)]
SERVICES = [
    {
        "control_port": port,
        "tls": {"mode": mode, "required": required, "reuse_required": reuse and mode != "none"},
        "passive": {"ports": "61200-61455", "announce": announce},
        "active": {"accepts_other_address": foreign},
        "peer_must_match": not foreign,
        "speaks_epsv": epsv,
    }
    for port, announce in ((21, "own"), (2121, "198.51.100.61"), (990, "tides.saltmarsh.example"))
    for mode, required in MODES
    for reuse, foreign, epsv in ((False, False, True), (True, True, False), (False, True, True))
]


def fragments(site: Site) -> dict[str, str]:
    """What servers' formats write for the first service, by the end of the file's name."""
    return {each.name.partition(".")[2]: each.text for each in files_of(site) if each.owner == site.services[0].name}


@pytest.mark.parametrize("number", range(len(SERVICES)))
def test_fragments_of_servers_are_accepted_by_them_and_read_back_as_the_service(number: int, tmp_path: Path) -> None:
    site = with_service(SERVICES[number])
    service = site.services[0]
    for ending, text in fragments(site).items():
        path = tmp_path / ending
        path.write_text(text)
        (reading,) = read_files({ending: text}, DeviceTarget(site, site.server.name))
        (again, *_) = adopted(site, site.server.name, service.name, "in", [reading]).services
        assert replace(again, tls=service.tls) == service
        assert (again.tls.mode, again.tls.required) == (service.tls.mode, service.tls.required)
        if ending == "proftpd.conf" and shutil.which("proftpd", path=SBIN):
            checked = subprocess.run(["proftpd", "-t", "-c", path], capture_output=True, text=True, env={"PATH": SBIN})
            resolves = "unable to resolve" in checked.stderr  # it looks the name up at once
            assert checked.returncode == 0 or resolves, checked.stderr


UNPACKED = Path("/opt/pure-ftpd")
PURE_FTPD = shutil.which("pure-ftpd", path=f"{SBIN}:{UNPACKED}/usr/sbin")
PURE_PW = shutil.which("pure-pw", path=f"{SBIN}:{UNPACKED}/usr/bin")
ASKED = """
import ftplib, ssl, sys
port, secured = int(sys.argv[1]), sys.argv[2] == "secured"
ftp = ftplib.FTP_TLS(context=ssl._create_unverified_context()) if secured else ftplib.FTP()
ftp.connect("127.0.0.1", port, timeout=10)
ftp.login(sys.argv[3], "ebb")
print(ftp.sendcmd("PASV"))
try:
    print(ftp.sendcmd("EPSV"))
except ftplib.Error as error:
    print("EPSV refused:", error)
"""


@pytest.mark.kernel
@pytest.mark.daemon
@pytest.mark.skipif(None in (PURE_FTPD, PURE_PW) or os.name != "posix" or os.geteuid() != 0,
                    reason="needs root, and pure-ftpd unpacked (CONTRIBUTING.md)")  # fmt: skip
@pytest.mark.parametrize("number", [0, 3, 6, 12, 15, 18])
def test_pure_ftpd_starts_with_its_fragment_and_announces_what_it_says(number: int, tmp_path: Path) -> None:
    site = with_service(SERVICES[number])
    service = site.services[0]
    own = [fragments(site)["pure-ftpd.conf"], "Daemonize yes", "MinUID 1", f"PureDB {tmp_path}/users"]
    own += [f"PIDFile {tmp_path}/pid", f"CertFile {tmp_path}/both.pem"]
    (tmp_path / "server.conf").write_text("\n".join([*own, ""]))
    (tmp_path / "ask.py").write_text(ASKED)
    pair = trustme.CA().issue_cert("tides.saltmarsh.example").private_key_and_cert_chain_pem
    pair.write_to_path(tmp_path / "both.pem")
    secured = "secured" if service.tls.mode == "explicit" else "plain"
    script = f"""ip link set lo up
    printf 'ebb\\nebb\\n' | {PURE_PW} useradd station -f words -u nobody -g nogroup -d {tmp_path} >/dev/null
    {PURE_PW} mkdb users -f words
    {PURE_FTPD} server.conf
    exec {sys.executable} ask.py {service.control_port} {secured} station"""
    words = ["unshare", "-n", "-p", "-f", "--mount-proc", "--kill-child", "sh", "-ec", script]
    done = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    (told,) = re.findall(r"^227 .*\((.*),(\d+),(\d+)\)$", done.stdout, re.MULTILINE)
    announced, high, low = told
    assert service.passive is not None
    assert int(high) * 256 + int(low) in service.passive.ports
    own_address = service.passive.announce == OWN
    assert announced.replace(",", ".") == ("127.0.0.1" if own_address else str(service.passive.announce))


VSFTPD = shutil.which("vsftpd", path=f"{SBIN}:/opt/vsftpd/usr/sbin")  # public interface
ANYBODY = """
listen=YES
listen_ipv6=NO
background=YES
anonymous_enable=YES
ftp_username=daemon
secure_chroot_dir={folder}/empty
allow_anon_ssl=YES
rsa_cert_file={folder}/both.pem
"""


@pytest.mark.kernel
@pytest.mark.daemon
@pytest.mark.skipif(VSFTPD is None or os.name != "posix" or os.geteuid() != 0,
                    reason="needs root, and vsftpd unpacked (CONTRIBUTING.md)")  # fmt: skip
@pytest.mark.parametrize("number", [0, 3, 4, 12, 13, 15])
def test_vsftpd_starts_with_its_fragment_and_acts_as_it_says(number: int, tmp_path: Path) -> None:
    site = with_service(SERVICES[number])
    service = site.services[0]
    (tmp_path / "server.conf").write_text(fragments(site)["vsftpd.conf"] + ANYBODY.format(folder=tmp_path))
    (tmp_path / "ask.py").write_text(ASKED)
    (tmp_path / "empty").mkdir(mode=0o555)
    trustme.CA().issue_cert("tides.saltmarsh.example").private_key_and_cert_chain_pem.write_to_path(
        tmp_path / "both.pem"
    )
    secured = "plain" if service.tls.mode == "none" else "secured"
    script = (
        f"ip link set lo up; {VSFTPD} server.conf; exec {sys.executable} ask.py {service.control_port} {secured} ftp"
    )
    words = ["unshare", "-n", "-p", "-f", "--mount-proc", "--kill-child", "sh", "-ec", script]
    done = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path, timeout=60, check=False)
    assert done.returncode == 0, done.stderr + done.stdout
    (told,) = re.findall(r"^227 .*\((.*),(\d+),(\d+)\)\.?$", done.stdout, re.MULTILINE)
    announced, high, low = told
    assert service.passive is not None
    assert int(high) * 256 + int(low) in service.passive.ports
    own_address = service.passive.announce == OWN
    assert announced.replace(",", ".") == ("127.0.0.1" if own_address else str(service.passive.announce))
    assert ("EPSV refused" in done.stdout) == (not service.speaks_epsv)


def test_an_account_that_is_barred_or_on_no_list_of_who_may_log_in_is_written_as_let_in_by_no_server() -> None:
    names = [each["name"] for each in yaml.safe_load(AFTER.read_text())["accounts"]]
    in_, *others = names
    for limits in ({"allows": [in_]}, {"bars": others}):
        texts = fragments(with_service(limits))
        assert f"AllowUser OR {in_}\n" in texts["proftpd.conf"]
        assert "userlist_enable=YES\n" in texts["vsftpd.conf"]
        listed = ", ".join(limits.get("allows", others))
        assert f"make /etc/vsftpd.user_list, with a line each: {listed}.\n" in texts["vsftpd.conf"]
        assert ("userlist_deny=NO" in texts["vsftpd.conf"]) == ("allows" in limits)
        assert f"of these alone may log in: {in_}." in texts["pure-ftpd.conf"]
    assert "<Limit LOGIN>\n  DenyAll\n</Limit>" in fragments(with_service({"bars": names}))["proftpd.conf"]
    raw = yaml.safe_load(AFTER.read_text()) | {"promises": []}
    ssh = {"name": "tide-exchange", "protocol": "sftp", "control_port": 22, "allows": [in_], "bars": others}
    raw["services"] = [ssh]
    text = fragments(parse_site("fragment", json.dumps(raw)).site)["sshd.conf"]
    # whoever administers the host comes in by the same server: the lists are theirs to switch on
    assert f"\n# AllowUsers {in_}\n" in text
    assert f"\n# DenyUsers {' '.join(others)}\n" in text


PROFTPD = shutil.which("proftpd", path=SBIN)
OWN_USERS = """
ServerType standalone
User nobody
Group nogroup
PidFile {folder}/pid
ScoreboardFile {folder}/score
DelayEngine off
RequireValidShell off
AuthOrder mod_auth_file.c
AuthUserFile {folder}/users
AuthGroupFile {folder}/groups
"""
NAMED = """
import ftplib, sys
for name in sys.argv[2:]:
    ftp = ftplib.FTP()
    ftp.connect("127.0.0.1", int(sys.argv[1]), timeout=10)
    try:
        answer = ftp.sendcmd("USER " + name)
        print(name, (ftp.sendcmd("PASS ebb") if sys.argv[1] == "21" else answer)[:3])
    except ftplib.Error as error:
        print(name, str(error)[:3])
"""


@pytest.mark.kernel
@pytest.mark.daemon
@pytest.mark.skipif(None in (VSFTPD, PROFTPD) or os.name != "posix" or os.geteuid() != 0,
                    reason="needs root, ProFTPD, and vsftpd unpacked (CONTRIBUTING.md)")  # fmt: skip
@pytest.mark.parametrize("limits", [{"allows": ["station"]}, {"bars": ["reader"]}], ids=["allows", "bars"])
def test_servers_that_run_with_their_files_let_in_whom_the_lists_let_in(limits: Any, tmp_path: Path) -> None:
    """ProFTPD at port 21, asked with the password; vsftpd at port 2121, which declines by the name alone (public
    interface)."""
    texts = fragments(with_service({"tls": {"mode": "none"}, **limits}))
    (tmp_path / "one.conf").write_text(texts["proftpd.conf"] + OWN_USERS.format(folder=tmp_path))
    hashed = subprocess.run(["openssl", "passwd", "-6", "ebb"], capture_output=True, text=True, check=True).stdout
    users = [f"{name}:{hashed.strip()}:65534:65534::/:/bin/false\n" for name in ("station", "reader")]
    (tmp_path / "users").write_text("".join(users))
    (tmp_path / "groups").write_text("tides:x:65534:\n")
    for each in ("users", "groups"):
        (tmp_path / each).chmod(0o600)
    (found,) = re.findall(r"make /etc/vsftpd.user_list, with a line each: (.*)\.$", texts["vsftpd.conf"], re.MULTILINE)
    (tmp_path / "list").write_text(found.replace(", ", "\n") + "\n")
    other = (
        texts["vsftpd.conf"].replace("/etc/vsftpd.user_list", f"{tmp_path}/list").replace("port=21\n", "port=2121\n")
    )
    (tmp_path / "two.conf").write_text(f"{other}\nlisten=YES\nbackground=YES\nsecure_chroot_dir={tmp_path}/empty\n")
    (tmp_path / "empty").mkdir(mode=0o555)
    (tmp_path / "ask.py").write_text(NAMED)
    script = f"""ip link set lo up; {PROFTPD} -c {tmp_path}/one.conf; {VSFTPD} two.conf
    for port in 21 2121; do {sys.executable} ask.py $port station reader; done"""
    words = ["unshare", "-n", "-p", "-f", "--mount-proc", "--kill-child", "sh", "-ec", script]
    done = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path, timeout=60, check=False)
    assert done.stdout.split("\n") == ["station 230", "reader 530", "station 331", "reader 530", ""], done.stderr


@pytest.mark.skipif(shutil.which("sshd", path=SBIN) is None, reason="sshd is missing")
def test_the_fragment_of_openssh_is_accepted_and_keeps_a_reader_to_reading(tmp_path: Path) -> None:
    raw = yaml.safe_load(AFTER.read_text())
    raw["services"][0] = {"name": "tide-exchange", "protocol": "sftp", "control_port": 2222}
    raw["accounts"].append({"name": "a b", "service": "tide-exchange", "home": "/srv/x y", "rights": ["list"]})
    raw["promises"] = []
    site = parse_site("fragment", json.dumps(raw)).site
    text = fragments(site)["sshd.conf"]
    (tmp_path / "sshd.conf").write_text(text)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "key"], check=True)
    Path("/run/sshd").mkdir(exist_ok=True)
    words = ["/usr/sbin/sshd", "-T", "-f", tmp_path / "sshd.conf", "-h", tmp_path / "key", "-C", "user=reader"]
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    assert {"port 2222", "chrootdirectory /srv/tides/out", "forcecommand internal-sftp -R"} <= set(
        done.stdout.splitlines()
    )
    assert "# a b: this name or folder cannot be written here" in text
