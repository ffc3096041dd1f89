"""Faults put into a working site, real daemons and real clients in the kernel lab, and what the clients logged.

    recorder.py FOLDER [EACH] [DAEMON ...]

For each kind of fault that changes a site and that some session meets, EACH of them (1 where it is left out) are put
into a small site of the tests and set up in the kernel lab with a daemon (proftpd, pure-ftpd); real programs run at the
place of every client. FOLDER gets a folder for each: ``coast.site.yaml`` (the site as it is meant),
``CLIENT-PROGRAM.log`` and ``truth.json``, as ``evidence.py`` reads them. Nothing is predicted: what is kept is what
programs wrote.
"""

import json
import random
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import other_daemon
from real_clients import own_root, process_of
from test_sites import changed as with_set

from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.fault import Fault, Way, changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.diagnosis.hypotheses import Predictions
from eager_lantern.core.model.change import changed
from eager_lantern.core.model.site import Site
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.observation import Situation
from eager_lantern.core.predict.session import predict
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.lab import KernelLab, has_helper
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.scenarios import Scenario, served_services, typed_names
from eager_lantern.lab.rehearsal.setup import Able, prepared
from eager_lantern.lab.servers.ssh_server import write_self_signed

SECONDS, SIDE_BY_SIDE = 6, 9
RANGE = "61200-61239"  # more ports than programs that run side by side
TWO_CLIENTS: dict[str, Any] = {
    "base": "one-router",
    "set": {
        "services.0.tls": {"mode": "none"},
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
FTPLIB = """
import ftplib, sys
host, port, user, password, mode, tls = sys.argv[1:]
session = (ftplib.FTP_TLS if tls == "tls" else ftplib.FTP)()
session.set_debuglevel(2)
session.connect(host, int(port), timeout=5)
session.login(user, password)
if tls == "tls":
    session.prot_p()
session.set_pasv(mode == "passive")
session.retrlines("LIST", print)
session.quit()
"""


def programs(host: str, port: int, user: str, password: str, tls: bool) -> Iterator[tuple[str, list[str], str]]:
    """The programs that are run: name, command, and what is typed into it."""
    wait = ["--connect-timeout", str(SECONDS), "--max-time", str(SECONDS)]
    curl = ["curl", "-q", "-v", "-s", "-S", "-k", *wait, *(["--ssl-reqd"] if tls else [])]
    url = ["--user", f"{user}:{password}", f"ftp://{host}:{port}/"]
    yield "curl", [*curl, *url], ""
    yield "curl-pasv", [*curl, "--disable-epsv", "--no-ftp-skip-pasv-ip", *url], ""
    settings = f"debug 5; set net:timeout {SECONDS - 2}; set net:max-retries 1; set ssl:verify-certificate no"
    secured = "set ftp:ssl-force yes; set ftp:ssl-protect-data yes" if tls else "set ftp:ssl-allow no"
    yield "lftp", ["lftp", "--norc", "-c", f"{settings}; {secured}; open -u {user},{password} -p {port} {host}; ls"], ""
    way = "tls" if tls else "plain"
    yield "ftplib", [sys.executable, "-u", "-c", FTPLIB, host, str(port), user, password, "passive", way], ""
    if tls:
        return
    yield "curl-active", [*curl, "--ftp-port", "-", "--disable-eprt", *url], ""
    yield (
        "wget",
        ["wget", "-d", "-T", str(SECONDS - 2), "-t", "1", "-O-", f"ftp://{user}:{password}@{host}:{port}/"],
        "",
    )
    typed = f"user {user} {password}\nls\nquit\n"
    yield "tnftp", ["tnftp", "-n", "-d", "-v", "-P", str(port), host], typed
    yield "inetutils", ["inetutils-ftp", "-n", "-d", "-v", "-p", host, str(port)], typed
    yield "ncftp", ["ncftpls", "-d", "stdout", "-t", str(SECONDS - 2), "-r", "0", "-u", user, "-p", password,
                    "-P", str(port), f"ftp://{host}/"], ""  # fmt: skip


def faults_that_show(site: Site) -> Iterator[tuple[Fault, Way]]:
    """Faults that change the site and that a session of some client meets."""
    known = Predictions(site)
    tries = [Situation(each.client, each.service, each.mode) for each in site.promises]
    for fault in faults_of(site):
        ways = [way for way in fault.variants if way and len(changes_in(way)) == len(way)]
        for way in ways:
            if any(
                [end.shows for end in known.ends(way, each)] != [end.shows for end in known.ends((), each)]
                for each in tries
            ):
                yield fault, way


def recorded(folder: Path, meant: Site, raw: dict[str, Any], broken: Site, right: list[list[str]], daemon: str) -> int:
    """Run every program at every client of a broken site, and keep what they write; how many logs there are."""
    topology = Topology(broken)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(broken.promises)]
    stages: dict[str, int] = {}
    with tempfile.TemporaryDirectory(prefix="lantern-record-") as text, own_root(daemon):
        place = Path(text)
        place.chmod(0o711)
        ready = prepared(topology, forecasts, place, with_daemon=True, able=Able(has_helper(), True))
        starts = ready.servers.daemon
        if daemon == "pure-ftpd":
            _, served = write_self_signed(place, *typed_names(topology))
            wanted = served_services(ready.scenarios, "ftp")
            files = Path("/opt/pure-ftpd")
            starts = tuple(other_daemon.daemon(topology, *each, place / "other", files, served) for each in wanted)
        with KernelLab(lab_nodes(broken, ready.strangers)) as lab:
            lab.do_all([(broken.server.name, each) for each in starts])
            sessions = [
                (scenario, process_of(lab, scenario.node), *each)
                for scenario in ready.scenarios
                for each in programs_for(scenario)
            ]
            with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
                kept = list(pool.map(partial(run, daemon), sessions))
            for scenario_name, (code, said) in zip(map(_name_of, sessions), kept, strict=True):
                folder.mkdir(parents=True, exist_ok=True)
                stages[scenario_name] = code
                (folder / f"{scenario_name}.log").write_text(said)
    if stages:
        (folder / "coast.site.yaml").write_text(json.dumps(raw, indent=1))
        truth = {"fault": folder.name, "right": right, "known": True, "stages": stages}
        (folder / "truth.json").write_text(json.dumps(truth, indent=1))
    return len(stages)


Session = tuple[Scenario, int, str, list[str], str]
"""Who runs what: the scenario, the process whose network it is in, the program, its command, and what is typed."""


def _name_of(session: Session) -> str:
    return f"{session[0].forecast.promise.client}-{session[2]}"


def programs_for(scenario: Scenario) -> Iterator[tuple[str, list[str], str]]:
    """The programs that run at the place of a client."""
    plan = scenario.plans[0]
    user, password = plan.credentials.user, plan.credentials.password.reveal()
    tls = plan.security.mode != "none"
    for each in programs(str(plan.target.address), plan.target.port, user, password, tls):
        # of a client that is turned round by the router, no server accepts active mode
        if each[0] != "curl-active" or scenario.forecast.promise.client == "gauge":
            yield each


def run(daemon: str, session: Session) -> tuple[int, str]:
    """How a program ended, and what it wrote, without the password."""
    scenario, inside, _, command, typed = session
    preserve = [] if daemon == "pure-ftpd" else ["-U", "--preserve-credentials"]
    words = ["nsenter", "-t", str(inside), "-n", *preserve, "timeout", str(4 * SECONDS), *command]
    clean = {"PATH": "/usr/bin:/bin", "LC_ALL": "C"}
    done = subprocess.run(
        words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, input=typed.encode(), env=clean, check=False
    )
    said = done.stdout.decode("utf-8", errors="replace")
    return done.returncode, said.replace(scenario.plans[0].credentials.password.reveal(), "PASSWORD")


def main(folder: Path, each: int, daemons: list[str]) -> None:
    chance = random.Random(1)
    for daemon in daemons:
        for label, case in (("plain", TWO_CLIENTS), ("tls", UNDER_TLS)):
            raw = with_set(case)
            site = settled(parse_site("coast", json.dumps(raw)).site)
            kinds: dict[str, list[tuple[Fault, Way]]] = {}
            for fault, way in faults_that_show(site):
                kinds.setdefault(fault.kind, []).append((fault, way))
            print(daemon, label, len(kinds), "kinds", flush=True)
            count = recorded(folder / f"right-{daemon}-{label}", site, raw, site, [], daemon)
            print(f"  right: {count} logs", flush=True)
            for kind, found in kinds.items():
                for number, (fault, way) in enumerate(chance.sample(found, min(each, len(found)))):
                    name = f"{kind}-{number}-{daemon}-{label}"
                    try:
                        count = recorded(
                            folder / name, site, raw, changed(site, *changes_in(way)), [[fault.kind]], daemon
                        )
                    except (RuntimeError, OSError) as error:
                        print(f"  {name}: {str(error)[:100]}", flush=True)
                        continue
                    print(f"  {name}: {count} logs", flush=True)


if __name__ == "__main__":
    arguments = sys.argv[1:]
    main(Path(arguments[0]), int((arguments[1:2] or ["1"])[0]), arguments[2:] or ["proftpd"])
