"""Faults put into a working site, real daemons and real clients in the kernel lab, and what the clients logged.
Settings of daemons and options of programs are theirs (public interface).

    recorder.py FOLDER [DAEMON ...]

Every kind of fault that changes a site and that some session meets, faults of the daemon's own settings, of accounts
and certificates, and pairs of faults, are put into a small site of the tests and set up in the kernel lab with a daemon
(proftpd, pure-ftpd, vsftpd, sshd); real programs run at the place of every client. FOLDER gets a folder for each:
``coast.site.yaml`` (the site as it is meant), ``CLIENT-PROGRAM.log`` and ``truth.json``, as ``evidence.py`` reads them.
Nothing is predicted: what is kept is what programs wrote. A folder that is there already is left out.
"""

import json
import random
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import partial
from itertools import combinations
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import other_daemon
import vsftpd_daemon
from real_clients import own_root
from side_by_side import process_of
from test_sites import changed as with_set

from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.fault import Fault, Way, changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.diagnosis.hypotheses import Predictions
from eager_lantern.core.model.change import change, changed
from eager_lantern.core.model.consistency import problems
from eager_lantern.core.model.site import Site
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.observation import Situation
from eager_lantern.core.predict.session import predict
from eager_lantern.formats.keys import key_pem, new_key, self_signed
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.lab import KernelLab, has_helper
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.scenarios import Scenario, served_services, typed_names
from eager_lantern.lab.rehearsal.setup import Able, Prepared, prepared
from eager_lantern.lab.tasks.tasks import Start

SECONDS, MOST_SECONDS, SIDE_BY_SIDE = 4, 14, 24
DOUBLES = 14
LEFT_OUT = ("client-without-tls", "client-other-mode", "client-names-private", "client-dials-elsewhere",
            "full-packets-lost", "idle-too-short", "range-in-use")  # fmt: skip
"""What programs do of their own, whatever the site is; what a listing is too short for; and, of a range in use, what is
the same as a range that is left to the system."""
RANGE = "61200-61259"  # a daemon takes half as many sessions as it has ports
TWO_CLIENTS: dict[str, Any] = {
    "base": "one-router",
    "set": {
        "services.0.tls": {"mode": "none"},
        "services.0.peer_must_match": True,
        "services.0.load": {"typical_size": "1 MB", "rate": "100 Mbit/s"},
        "services.0.passive": {"ports": RANGE, "announce": "198.51.100.61"},
        "gateways.0.forwards.1.ports": RANGE,
        "gateways.0.hairpin": True,
        "server.filter.incoming.rules.1.ports": RANGE,
        "clients.1.reaches": "198.51.100.61",
        "promises": [
            {"client": "gauge", "service": "tides", "mode": "passive"},
            {"client": "desk", "service": "tides", "mode": "passive"},
        ],
    },
}
UNDER_TLS: dict[str, Any] = {**TWO_CLIENTS, "set": {k: v for k, v in TWO_CLIENTS["set"].items() if "tls" not in k}}
OVER_SSH: dict[str, Any] = {
    "base": "one-router",
    "set": {
        "services.0": {"name": "tides", "protocol": "sftp", "control_port": 21},
        "gateways.0.hairpin": True,
        "clients.1.reaches": "198.51.100.61",
        "promises": [{"client": "gauge", "service": "tides"}, {"client": "desk", "service": "tides"}],
    },
}
FTPLIB = """
import ftplib, ssl, sys
host, port, user, password, tls, authority = sys.argv[1:]
context = ssl.create_default_context(cafile=authority or None)
if not authority:
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
session = ftplib.FTP_TLS(context=context) if tls == "tls" else ftplib.FTP()
session.set_debuglevel(2)
session.connect(host, int(port), timeout=5)
session.login(user, password)
if tls == "tls":
    session.prot_p()
session.retrlines("LIST", print)
session.quit()
"""
AIOFTP = """
import aioftp, asyncio, logging, ssl, sys
host, port, user, password, tls = sys.argv[1:]
logging.basicConfig(level=logging.DEBUG)
async def listed():
    async with aioftp.Client.context(host, int(port), user, password, socket_timeout=5) as client:
        for path, facts in await client.list():
            print(path)
asyncio.run(listed())
"""


@dataclass(frozen=True)
class Typed:
    """What a person types into a program, and how the program was set up."""

    host: str
    port: int
    user: str
    password: str
    tls: bool = False
    authority: str = ""
    wrong: bool = False
    newest_tls: str = ""


def ftp_programs(typed: Typed) -> Iterator[tuple[str, list[str], str]]:
    """The programs that are run: name, command, and what is typed into it."""
    host, port, user = typed.host, typed.port, typed.user
    password = "not-" + typed.password if typed.wrong else typed.password
    wait = ["--connect-timeout", str(SECONDS), "--max-time", str(SECONDS)]
    trust = ["--cacert", typed.authority] if typed.authority else ["-k"]
    older = ["--tls-max", "1.2"] if typed.newest_tls else []
    curl = ["curl", "-q", "-v", "-s", "-S", *trust, *older, *wait, *(["--ssl-reqd"] if typed.tls else [])]
    url = ["--user", f"{user}:{password}", f"ftp://{host}:{port}/"]
    yield "curl", [*curl, *url], ""
    yield "curl-pasv", [*curl, "--disable-epsv", "--no-ftp-skip-pasv-ip", *url], ""
    yield "curl-trace", [*curl[:2], "--trace-ascii", "-", *curl[3:], *url], ""
    trusted = f"set ssl:ca-file {typed.authority}" if typed.authority else "set ssl:verify-certificate no"
    if typed.newest_tls:
        trusted += "; set ssl:priority NORMAL:-VERS-TLS1.3"
    settings = f"debug 5; set net:timeout {SECONDS - 1}; set net:max-retries 1; {trusted}"
    secured = "set ftp:ssl-force yes; set ftp:ssl-protect-data yes" if typed.tls else "set ftp:ssl-allow no"
    yield "lftp", ["lftp", "--norc", "-c", f"{settings}; {secured}; open -u {user},{password} -p {port} {host}; ls"], ""
    if not typed.newest_tls:
        words = [host, str(port), user, password, "tls" if typed.tls else "plain", typed.authority]
        yield "ftplib", [sys.executable, "-u", "-c", FTPLIB, *words], ""
    if typed.tls:
        return
    yield "curl-active", [*curl, "--ftp-port", "-", "--disable-eprt", *url], ""
    wget = ["wget", "-d", "-T", str(SECONDS - 1), "-t", "1", "-O-", f"ftp://{user}:{password}@{host}:{port}/"]
    yield "wget", wget, ""
    lines = f"user {user} {password}\nls\nquit\n"
    yield "tnftp", ["tnftp", "-n", "-d", "-v", "-P", str(port), host], lines
    yield "inetutils", ["inetutils-ftp", "-n", "-d", "-v", "-p", host, str(port)], lines
    yield "ncftp", ["ncftpls", "-d", "stdout", "-t", str(SECONDS - 1), "-r", "0", "-u", user, "-p", password,
                    "-P", str(port), f"ftp://{host}/"], ""  # fmt: skip
    sends = f"cd /etc && exec wput -v --tries=1 --timeout=40 hostname ftp://{user}:{password}@{host}:{port}/"
    yield "wput", ["sh", "-c", sends], ""
    yield "aioftp", [sys.executable, "-u", "-c", AIOFTP, host, str(port), user, password, "plain"], ""


def ssh_programs(typed: Typed) -> Iterator[tuple[str, list[str], str]]:
    """The same over SSH, the password by the environment of its asking program."""
    host, port, user = typed.host, typed.port, typed.user
    password = "not-" + typed.password if typed.wrong else typed.password
    options = {
        "PreferredAuthentications": "password", "NumberOfPasswordPrompts": "1", "StrictHostKeyChecking": "no",
        "UserKnownHostsFile": "/dev/null", "ConnectTimeout": str(SECONDS), "BatchMode": "no",
    }  # fmt: skip
    words = [part for key, value in options.items() for part in ("-o", f"{key}={value}")]
    target = f"{user}@{host}"
    typing = ["env", f"TYPED={password}"]
    yield "sftp", [*typing, "sftp", "-v", "-F", "none", "-P", str(port), *words, target], "ls\nquit\n"
    yield "ssh", [*typing, "ssh", "-v", "-F", "none", "-p", str(port), *words, "-s", target, "sftp"], ""
    wait = ["--connect-timeout", str(SECONDS), "--max-time", str(SECONDS)]
    yield "curl", ["curl", "-q", "-v", "-s", "-S", "-k", *wait, "--user", f"{user}:{password}",
                   f"sftp://{host}:{port}/"], ""  # fmt: skip
    settings = f"debug 8; set net:timeout {SECONDS - 1}; set net:max-retries 1"
    connect = f"set sftp:connect-program 'ssh -a -x -F none {' '.join(words)}'"
    opened = f"open -u {user},{password} sftp://{host}:{port}"
    yield "lftp", [*typing, "lftp", "--norc", "-c", f"{settings}; {connect}; {opened}; ls"], ""


@dataclass(frozen=True)
class Trouble:
    """What is wrong: the kinds that name it, the site that has it, what the daemon and the programs do otherwise."""

    name: str
    right: tuple[tuple[str, ...], ...]
    broken: Site
    lines: str = ""
    settings: dict[str, str] = field(default_factory=dict)
    words: tuple[str, ...] = ()
    typed: dict[str, Any] = field(default_factory=dict)
    certificate: str = "good"
    runs: str = "the daemon"


def of_settings(daemon: str, label: str, site: Site) -> Iterator[Trouble]:
    """Faults of the daemon's settings, of accounts, certificates and programs (public interface: daemons' words)."""
    yield Trouble("password-wrong", (("account-mistyped",), ("account-locked",)), site, typed={"wrong": True})
    yield Trouble("not-running", (("service-not-running",), ("service-on-other-port",)), site, runs="nothing")
    if daemon == "sshd":
        refused = (("account-mistyped",), ("account-locked",), ("account-shell-refused",))
        yield Trouble("no-subsystem", (("ssh-subsystem-missing",),), site, lines="ForceCommand /bin/false")
        yield Trouble("login-denied", refused, site, lines="DenyUsers *")
        old = "KexAlgorithms diffie-hellman-group1-sha1"
        yield Trouble("algorithms", (("ssh-algorithms-differ",),), site, lines=old)
        return
    web = (("other-program-on-port",),)
    yield Trouble("web-server", web, site, runs="a web server")
    many = (("too-many-connections",),)
    yield Trouble("too-many", many, site, "MaxClients 1", {"max_clients": "1"}, ("-c", "1"))
    if daemon != "pure-ftpd":
        no_passive = "<Limit PASV EPSV>\nDenyAll\n</Limit>"
        yield Trouble("no-passive", (("passive-refused",),), site, no_passive, {"pasv_enable": "NO"})
        locked = "<Limit LOGIN>\nDenyUser visitor-0\nDenyUser visitor-1\n</Limit>"
        accounts = (("account-locked",), ("account-mistyped",), ("account-shell-refused",), ("client-barred",))
        yield Trouble("locked", accounts, site, locked, {"userlist_enable": "YES", "userlist_deny": "NO",
                                                        "userlist_file": "/dev/null"})  # fmt: skip
    if daemon == "vsftpd":
        yield Trouble("no-list", (("account-without-right",),), site, settings={"dirlist_enable": "NO"})
        root = (("account-root-writable",),)
        yield Trouble("root-writable", root, site, settings={"allow_writeable_chroot": "NO"})
    tls = ("services", 0, "tls")
    if label == "plain":
        demanded = changed(site, change(site, (*tls, "mode"), "explicit"), change(site, (*tls, "required"), True))
        yield Trouble("tls-demanded", (("tls-demanded",), ("client-without-tls",)), demanded)
        return
    yield Trouble("tls-refused", (("tls-refused",),), changed(site, change(site, (*tls, "mode"), "none")))
    yield Trouble("issuer-unknown", (("certificate-issuer-unknown",),), site, typed={"authority": "other"})
    yield Trouble("expired", (("certificate-out-of-date",),), site, certificate="expired", typed={"authority": "own"})
    other = (("certificate-of-other-name",),)
    yield Trouble("other-name", other, site, certificate="other name", typed={"authority": "own"})
    yield Trouble("plain-client", (("tls-demanded",), ("client-without-tls",)), site, typed={"tls": False})
    if daemon != "pure-ftpd":
        implicit = changed(site, change(site, (*tls, "mode"), "implicit"))
        yield Trouble("implicit", (("tls-implicit-explicit",),), implicit)
        reuse = changed(site, change(site, (*tls, "reuse_required"), True))
        yield Trouble("reuse", (("reuse-demanded",),), reuse)
    if daemon == "proftpd":
        versions = (("tls-version-differs",),)
        yield Trouble("version", versions, site, "TLSProtocol TLSv1.3", typed={"newest_tls": "1.2"})


def of_site(site: Site, chance: random.Random) -> Iterator[Trouble]:
    """One fault of each kind that changes the site and that a session meets, then pairs of which both show."""
    kinds: dict[str, list[tuple[Fault, Way]]] = {}
    for fault, way in faults_that_show(site):
        kinds.setdefault(fault.kind, []).append((fault, way))
    chosen = [chance.choice(found) for found in kinds.values()]
    for fault, way in chosen:
        yield Trouble(fault.kind, ((fault.kind,),), changed(site, *changes_in(way)))
    pairs = [pair for pair in combinations(chosen, 2) if _both_show(site, *(way for _, way in pair))]
    for (one, mine), (other, its) in chance.sample(pairs, min(DOUBLES, len(pairs))):
        broken = changed(site, *changes_in((*mine, *its)))
        yield Trouble(f"d-{one.kind}+{other.kind}", (tuple(sorted((one.kind, other.kind))),), broken)


def faults_that_show(site: Site) -> Iterator[tuple[Fault, Way]]:
    """Faults that change the site and that a session of some client meets."""
    known = Predictions(site)
    for fault in faults_of(site):
        for way in fault.variants if fault.kind not in LEFT_OUT else ():
            if way and len(changes_in(way)) == len(way) and _ends(known, site, way) != _ends(known, site, ()):
                yield fault, way


def _ends(known: Predictions, site: Site, way: Way) -> list[dict[Any, float]]:
    """How each try ends in how many of ten cases."""
    found: list[dict[Any, float]] = []
    for each in site.promises:
        chances: dict[Any, float] = {}
        for end in known.ends(way, Situation(each.client, each.service, each.mode)):
            chances[end.shows] = chances.get(end.shows, 0.0) + end.chance
        found.append({shows: round(chance, 1) for shows, chance in chances.items() if chance > 0.05})
    return found


def _both_show(site: Site, mine: Way, its: Way) -> bool:
    known, both = Predictions(site), (*mine, *its)
    if {each.place[:4] for each in changes_in(mine)} & {each.place[:4] for each in changes_in(its)}:
        return False
    if problems(changed(site, *changes_in(both))):
        return False
    together = _ends(known, site, both)
    return together not in (_ends(known, site, mine), _ends(known, site, its))


def certified(folder: Path, names: Sequence[str], kind: str) -> tuple[Path, Path, Path]:
    """A certificate and key to serve, the certificate to trust, and one of somebody else."""
    key, now = new_key("ec"), datetime.now(UTC)
    begins = now - timedelta(days=40) if kind == "expired" else now
    public = self_signed(key, ("other.example",) if kind == "other name" else names, begins, timedelta(days=30))
    strange = self_signed(new_key("ec"), names, now, timedelta(days=30))
    paths = folder / "served.pem", folder / "own.pem", folder / "strange.pem"
    for path, text in zip(paths, (key_pem(key) + public, public, strange), strict=True):
        path.touch(mode=0o600)
        path.write_bytes(text)
    paths[1].chmod(0o644)
    paths[2].chmod(0o644)
    return paths


def starts_of(daemon: str, trouble: Trouble, ready: Prepared, place: Path, files: Path, served: Path) -> list[Start]:
    """How the daemon is started, with what is wrong in its settings."""
    topology = ready.topology
    address = str(topology.server.addresses.each[0])
    if trouble.runs == "nothing":
        return []
    if trouble.runs == "a web server":
        words = (sys.executable, "-m", "http.server", "21", "--bind", address)
        return [Start(words, address, 21, place / "web.log")]
    if daemon in ("proftpd", "sshd"):
        for text in (place / "certificate-and-key.pem",):
            if text.exists():
                text.write_bytes(served.read_bytes())
        for each in (*place.glob("daemon-*/proftpd.conf"), *place.glob("ssh-daemon-*/sshd.conf")):
            written = each.read_text()
            if trouble.lines.startswith("TLSProtocol"):
                written = "\n".join(line for line in written.splitlines() if not line.startswith("TLSProtocol"))
            if trouble.lines.startswith("ForceCommand"):
                written = written.replace("ForceCommand internal-sftp", "ForceCommand /bin/false #")
                each.write_text(written)
            else:
                each.write_text(f"{trouble.lines}\n{written}" if daemon == "sshd" else f"{written}\n{trouble.lines}\n")
        return [each for each in ready.servers.daemon if isinstance(each, Start)]
    wanted = served_services(ready.scenarios, "ftp")
    if daemon == "vsftpd":
        return [vsftpd_daemon.daemon(topology, service, place / "third", files, served, trouble.settings)
                for service, _ in wanted]  # fmt: skip
    found = [other_daemon.daemon(topology, *each, place / "other", files, served) for each in wanted]
    return [Start((*each.command, *trouble.words), each.address, each.port, each.log) for each in found]


def recorded(folder: Path, meant: Site, raw: dict[str, Any], trouble: Trouble, daemon: str, files: Path) -> int:
    """Run every program at every client of a broken site, and keep what they write; how many logs there are."""
    topology = Topology(trouble.broken)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(trouble.broken.promises)]
    stages: dict[str, int] = {}
    machine = "pure-ftpd" if daemon == "vsftpd" else daemon
    with tempfile.TemporaryDirectory(prefix="lantern-record-") as text, ExitStack() as stack:
        stack.enter_context(own_root(machine))
        place = Path(text)
        place.chmod(0o711)
        ready = prepared(topology, forecasts, place, with_daemon=True, able=Able(has_helper(), True))
        served, own, strange = certified(place, typed_names(topology), trouble.certificate)
        if daemon == "vsftpd":
            stack.enter_context(vsftpd_daemon.users([each.guest for each in ready.scenarios if each.guest]))
        starts = starts_of(daemon, trouble, ready, place, files, served)
        authority = {"own": str(own), "other": str(strange)}.get(trouble.typed.get("authority", ""), "")
        tls = meant.services[0].tls.mode != "none"
        lab = stack.enter_context(KernelLab(lab_nodes(trouble.broken, ready.strangers)))
        lab.do_all([(trouble.broken.server.name, each) for each in starts])
        sessions = [
            (scenario, process_of(lab, scenario.node), *each)
            for scenario in ready.scenarios
            for each in programs_for(scenario, daemon, {"tls": tls, **trouble.typed, "authority": authority})
        ]
        with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
            kept = list(pool.map(partial(run, machine), sessions))
    if trouble.right and not any(code for code, _ in kept):
        return 0  # it shows to none of them
    folder.mkdir(parents=True)
    for name, (code, said) in zip(map(_name_of, sessions), kept, strict=True):
        stages[name] = code
        (folder / f"{name}.log").write_text(said)
    (folder / "coast.site.yaml").write_text(json.dumps(raw, indent=1))
    truth = {"fault": folder.name, "right": trouble.right, "known": True, "stages": stages}
    (folder / "truth.json").write_text(json.dumps(truth, indent=1))
    return len(stages)


Session = tuple[Scenario, int, str, list[str], str]
"""Who runs what: the scenario, the process whose network it is in, the program, its command, and what is typed."""


def _name_of(session: Session) -> str:
    return f"{session[0].forecast.promise.client}-{session[2]}"


def programs_for(scenario: Scenario, daemon: str, how: dict[str, Any]) -> Iterator[tuple[str, list[str], str]]:
    """The programs that run at the place of a client."""
    plan = scenario.plans[0]
    typed = Typed(str(plan.target.address), 21, plan.credentials.user, plan.credentials.password.reveal(), **how)
    for each in ssh_programs(typed) if daemon == "sshd" else ftp_programs(typed):
        # of a client that is turned round by the router, no server accepts active mode
        if each[0] != "curl-active" or scenario.forecast.promise.client == "gauge":
            yield each


def run(machine: str, session: Session) -> tuple[int, str]:
    """How a program ended, and what it wrote, without the password."""
    scenario, inside, _, command, typed = session
    secret = scenario.plans[0].credentials.password.reveal()
    preserve = [] if machine == "pure-ftpd" else ["-U", "--preserve-credentials"]
    words = ["nsenter", "-t", str(inside), "-n", *preserve, "timeout", str(MOST_SECONDS), *command]
    with tempfile.NamedTemporaryFile("w", suffix=".sh", delete=False) as script:
        script.write('#!/bin/sh\necho "$TYPED"\n')
    Path(script.name).chmod(0o700)
    clean = {"PATH": "/usr/bin:/bin", "LC_ALL": "C", "PYTHONPATH": ":".join(sys.path)}
    clean |= {"SSH_ASKPASS": script.name, "SSH_ASKPASS_REQUIRE": "force"}
    done = subprocess.run(
        words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, input=typed.encode(), env=clean, check=False
    )
    Path(script.name).unlink()
    said = done.stdout.decode("utf-8", errors="replace")
    return done.returncode, said.replace(secret, "PASSWORD")


def main(folder: Path, daemons: list[str]) -> None:
    for daemon in daemons:
        chance = random.Random(daemon)
        cases = [("ssh", OVER_SSH)] if daemon == "sshd" else [("plain", TWO_CLIENTS), ("tls", UNDER_TLS)]
        with tempfile.TemporaryDirectory() as text:
            files = Path(text)
            files.chmod(0o755)
            if daemon == "pure-ftpd" and (problem := other_daemon.unpacked(files)):
                print(problem)
                continue
            if daemon == "vsftpd":
                vsftpd_daemon.unpacked(files)
            for label, case in cases:
                raw = with_set(case)
                site = settled(parse_site("coast", json.dumps(raw)).site)
                found = [Trouble("right", (), site), *of_settings(daemon, label, site)]
                found += list(of_site(site, chance))
                for trouble in found:
                    name = f"{trouble.name}-{daemon}-{label}"
                    if (folder / name).exists():
                        continue
                    try:
                        count = recorded(folder / name, site, raw, trouble, daemon, files)
                    except (RuntimeError, OSError, subprocess.SubprocessError) as error:
                        print(f"  {name}: {str(error)[:150]}", flush=True)
                        continue
                    print(f"  {name}: {count} logs", flush=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2:] or ["proftpd", "pure-ftpd", "vsftpd", "sshd"])
