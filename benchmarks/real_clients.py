"""Real clients against real daemons, in the kernel lab, held against the prediction.

Usage: real_clients.py [SITES] [FIRST]. For so many of the tests' small sites, from the one of that number on, two
daemons of FTP are set up as the site says, and one of SSH in their place; programs run at the place of the client, each
with its habits written into the site: whether a listing comes, and how far it came where it does not, is compared with
what is predicted. Trials that disagree are printed, and the exit code tells whether there are any; so are, with their
reasons, the trials that cannot be made.
"""

import json
import os
import re
import shlex
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from msgspec import structs

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import other_daemon
from side_by_side import process_of
from test_sites import TABLE, changed

from eager_lantern.core.model.site import Client, Mode, Site, Tls
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.forecast import Forecast
from eager_lantern.core.predict.session import predict
from eager_lantern.core.values.addresses import Address
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.daemons.proftpd import cannot
from eager_lantern.lab.kernel import lab as kernel
from eager_lantern.lab.kernel.lab import KernelLab, has_helper
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.scenarios import Scenario, served_services, typed_names
from eager_lantern.lab.rehearsal.setup import Able, prepared
from eager_lantern.lab.servers.ssh_server import write_self_signed

PATIENCE_SECONDS, MOST_SECONDS = 3, 30
STAGES = {"name": "connect", "connect": "connect", "greet": "connect", "secure": "login", "login": "login"}
"""The rungs that a program tells apart; all that come after the login are data."""


@dataclass(frozen=True)
class Program:
    """A program with one set of its options, and the habits that these are."""

    name: str
    mode: Mode
    habits: dict[str, Any]

    def command(self, scenario: Scenario) -> list[str]:
        """What to run for one session."""
        plan, ports = scenario.plans[0], self.ports(scenario)
        if self.name == "sftp":
            return self._sftp(scenario)
        user, password = plan.credentials.user, plan.credentials.password.reveal()
        host = f"[{plan.target.address}]" if ":" in str(plan.target.address) else str(plan.target.address)
        if self.name == "curl":
            scheme = "ftps" if plan.security.mode == "implicit" else "ftp"
            url = f"{scheme}://{host}:{plan.target.port}/"
            return [*self._curl(plan.security.mode, ports), "--user", f"{user}:{password}", url]
        settings = [*self._lftp(plan.security.mode, ports), f"open -u {user},{password} -p {plan.target.port} {host}"]
        return ["lftp", "--norc", "-c", "; ".join([*settings, "cls -1"])]

    def _sftp(self, scenario: Scenario) -> list[str]:
        plan = scenario.plans[0]
        options = {
            "BatchMode": "no", "PreferredAuthentications": "password", "NumberOfPasswordPrompts": "1",
            "StrictHostKeyChecking": "no", "UserKnownHostsFile": "/dev/null", "ConnectTimeout": str(PATIENCE_SECONDS),
        }  # fmt: skip
        words = [part for key, value in options.items() for part in ("-o", f"{key}={value}")]
        host = f"[{plan.target.address}]" if ":" in str(plan.target.address) else str(plan.target.address)
        target = f"{plan.credentials.user}@{host}"
        session = shlex.join(["sftp", "-q", "-F", "none", "-P", str(plan.target.port), *words, target])
        return ["sh", "-c", f"echo ls | timeout {4 * PATIENCE_SECONDS} {session}"]

    def ports(self, scenario: Scenario) -> str:
        """The ports that the site has this client wait on, where they are few."""
        ports, own = scenario.plans[0].data.active_ports, scenario.forecast.position.sources
        few = len(ports) < 60_000
        return "" if not few else f"{Address(own.lowest)}:{ports}" if self.name == "curl" else str(ports)

    def _curl(self, security: str, ports: str) -> list[str]:
        words = ["curl", "-q", "--silent", "--show-error", "--verbose", "--insecure", "--list-only"]
        words += ["--connect-timeout", str(PATIENCE_SECONDS), "--max-time", str(4 * PATIENCE_SECONDS)]
        words += ["--ssl-reqd"] if security == "explicit" else []
        if self.mode == "active":
            return [*words, "--ftp-port", ports or "-", "--disable-eprt"]
        if self.habits["uses_epsv"]:
            return words
        return [*words, "--disable-epsv", *(["--no-ftp-skip-pasv-ip"] if self.habits["trusts_announced"] else [])]

    def _lftp(self, security: str, ports: str) -> Iterator[str]:
        yield "debug 5; set net:timeout 4; set net:max-retries 1; set net:reconnect-interval-base 1"
        yield f"set ssl:verify-certificate no; set ftp:passive-mode {'on' if self.mode == 'passive' else 'off'}"
        yield f"set ftp:ssl-allow {'no' if security == 'none' else 'yes'}; set ftp:ssl-force {_yes(security != 'none')}"
        yield "set ftp:ssl-protect-data yes; set ftp:prefer-epsv no; set ftp:use-feat no; set dns:order 'inet inet6'"
        yield "set ftp:auto-passive-mode no"  # else it takes passive mode where active fails
        if ports:
            yield f"set ftp:port-range {ports}"
        if security == "implicit":
            yield "set ftp:initial-prot P"


def _yes(true: bool) -> str:
    return "yes" if true else "no"


SFTP = Program("sftp", "passive", {})
PROGRAMS = (
    Program("curl", "passive", {"uses_epsv": True, "trusts_announced": False}),
    Program("curl", "passive", {"uses_epsv": False, "trusts_announced": False}),
    Program("curl", "passive", {"uses_epsv": False, "trusts_announced": True}),
    Program("curl", "active", {"uses_epsv": False}),
    Program("lftp", "passive", {"uses_epsv": False, "trusts_announced": "unless-private"}),
    Program("lftp", "active", {"uses_epsv": False}),
)


@dataclass(frozen=True)
class Trial:
    """One session of a program: what was predicted, and what came of it; or why it cannot be made."""

    site: str
    program: Program
    daemon: str = "proftpd"
    predicted: str = ""
    observed: str = ""
    spared: str = ""

    @property
    def differs(self) -> bool:
        """Whether prediction and program part; where some ports work, either may happen."""
        return not self.spared and self.observed not in self.predicted.split(" or ")


def sites() -> Iterator[tuple[str, Site]]:
    """The small sites of the tests that promise FTP to one client with an address."""
    for case in TABLE["cases"]:
        site = parse_site(case["name"], json.dumps(changed(case))).site
        clients = {each.name: each for each in site.clients}
        promise = site.promises[0]
        service = next(each for each in site.services if each.name == promise.service)
        timed = any(each.idle_timeout for each in site.gateways) and service.transfer_seconds is not None
        client = clients.get(promise.client)
        if promise.holds == "works" and promise.mode and client and client.address and not timed:
            yield case["name"], site


def with_habits(site: Site, program: Program) -> Site:
    """The site whose promised client is this program."""
    promise = structs.replace(site.promises[0], mode=program.mode)
    own = program.habits

    def client_of(each: Client) -> Client:
        if each.name != promise.client:
            return each
        return structs.replace(each, modes=("passive", "active"), active_address=None, resumes_tls=True, **own)

    return structs.replace(site, promises=(promise,), clients=tuple(map(client_of, site.clients)))


def predicted(forecast: Forecast) -> str:
    """How far a session comes, in the stages that a program tells apart."""
    if forecast.rung == "send":  # a listing is short, a handshake may not be
        plain = forecast.service.protocol == "ftp" and forecast.service.tls.mode == "none"
        return "listed" if plain else "listed or login or connect"
    failed = STAGES.get(forecast.rung or "", "data")
    return {"works": "listed", "partly": f"listed or {failed}", "fails": failed, "unknown": ""}[forecast.predicted]


def observed(output: str, code: int) -> str:
    """The same of what a program has said."""
    if code == 0:
        return "listed"
    replies = set(re.findall(r"(?m)^\s*(?:<|<---)\s*([0-9]{3})[ -]", output))
    return "data" if "230" in replies else "login" if "220" in replies else "connect"


def over_ssh(site: Site) -> Site:
    """The site with SSH file transfer in the place of its service."""
    promise = site.promises[0]
    changes: dict[str, Any] = {"protocol": "sftp", "tls": Tls(), "passive": None, "active": None}
    services = (structs.replace(each, **changes) if each.name == promise.service else each for each in site.services)
    return structs.replace(site, services=tuple(services), promises=(structs.replace(promise, mode=None),))


def tried(name: str, site: Site, files: Path | None) -> Iterator[Trial]:
    """Every program on a site: with one daemon of FTP, with the other where its files are there, and over SSH."""
    yield from with_daemon(name, site, "proftpd", None)
    if files is not None:
        yield from with_daemon(name, site, "pure-ftpd", files)
    yield from with_daemon(name, over_ssh(site), "sshd", None)


def with_daemon(name: str, site: Site, daemon: str, files: Path | None) -> list[Trial]:
    """Every program that speaks to a daemon, side by side."""
    programs = (SFTP,) if daemon == "sshd" else PROGRAMS
    base = Topology(site)
    forecast = predict(base, site.promises[0], ("promises", 0))
    if forecast.target is None:
        return [Trial(name, each, daemon, spared="the client knows no address") for each in programs]
    with tempfile.TemporaryDirectory(prefix="lantern-clients-") as text, own_root(daemon):
        folder = Path(text)
        folder.chmod(0o711)
        ready = prepared(base, [forecast], folder, with_daemon=True, able=Able(has_helper(), True))
        starts = ready.servers.daemon
        if files is not None:
            _, served = write_self_signed(folder, *typed_names(base))
            wanted = served_services(ready.scenarios, "ftp")
            starts = tuple(other_daemon.daemon(base, *each, folder / "other", files, served) for each in wanted)
        with KernelLab(lab_nodes(base.site, ready.strangers)) as lab:
            try:
                lab.do_all([(base.server.name, each) for each in starts])
            except RuntimeError as error:
                return [Trial(name, each, daemon, spared=str(error)) for each in programs]
            scenario = ready.scenarios[0]
            inside = process_of(lab, scenario.node)
            # a helper that waits for data on a port drops another session's word of the same port
            helped = site.server.ftp_helper or any(each.ftp_helper for each in site.gateways)
            with ThreadPoolExecutor(1 if helped else len(programs)) as pool:
                return list(pool.map(lambda each: one(name, site, each, daemon, scenario, inside), programs))


@contextmanager
def own_root(daemon: str) -> Iterator[None]:
    """A lab whose root is the machine's own, for the daemon that changes its user; otherwise the usual one."""
    usual = kernel.UNSHARE
    kernel.UNSHARE = ("unshare", "-nm", "--pid", "--fork", "--kill-child") if daemon == "pure-ftpd" else usual
    try:
        yield
    finally:
        kernel.UNSHARE = usual


def one(name: str, site: Site, program: Program, daemon: str, scenario: Scenario, inside: int) -> Trial:
    """One program on a site."""
    target = scenario.plans[0].target.address
    if program.name == "lftp" and program.mode == "passive" and Address.parse(str(target)).kind != "public":
        # it distrusts a reply wherever one of both addresses is private and the other is not
        program = replace(program, habits={**program.habits, "trusts_announced": False})
    topology = Topology(site if daemon == "sshd" else with_habits(site, program))
    forecast = predict(topology, topology.site.promises[0], ("promises", 0))
    if reason := spared(topology, forecast, program, daemon, str(target)):
        return Trial(name, program, daemon, spared=reason)
    user = [] if daemon == "pure-ftpd" else ["-U", "--preserve-credentials"]
    command = ["nsenter", "-t", str(inside), "-n", *user, *program.command(scenario)]
    done = once(command, scenario)
    for _ in range(MOST_SECONDS):
        if other_daemon.FULL not in done.stdout + done.stderr:
            break
        time.sleep(1)  # it takes half as many sessions as it has data ports
        done = once(command, scenario)
    if other_daemon.FULL in done.stdout + done.stderr:
        return Trial(name, program, daemon, spared="the daemon had no room for a further session")
    told = observed_of_ssh if daemon == "sshd" else observed
    seen = told(done.stdout + done.stderr, done.returncode)
    return Trial(name, program, daemon, predicted(forecast), seen)


def once(command: list[str], scenario: Scenario) -> "subprocess.CompletedProcess[str]":
    """One session of a program, with what it says."""
    return subprocess.run(
        command,
        capture_output=True,
        text=True,
        errors="replace",
        timeout=4 * MOST_SECONDS,
        stdin=subprocess.DEVNULL,
        env={"PATH": os.environ["PATH"], "HOME": "/nonexistent", "LC_ALL": "C", **asked(scenario)},
        check=False,
    )


def asked(scenario: Scenario) -> dict[str, str]:
    """What lets a program of SSH ask for the password without a terminal."""
    helper = Path(scenario.guest.folder).parent / "password.sh" if scenario.guest else Path("/nonexistent")
    if scenario.guest and not helper.exists():
        helper.write_text(f"#!/bin/sh\necho {shlex.quote(scenario.plans[0].credentials.password.reveal())}\n")
        helper.chmod(0o755)
    return {"SSH_ASKPASS": str(helper), "SSH_ASKPASS_REQUIRE": "force"}


def observed_of_ssh(errors: str, code: int) -> str:
    """How far a session of SSH came: what the program says of a connection differs from what it says of a login."""
    if code == 0:
        return "listed"
    return "login" if "Permission denied" in errors else "connect"


def spared(topology: Topology, forecast: Forecast, program: Program, daemon: str, target: str) -> str:
    """Why a trial cannot be made; empty where it can."""
    unable = {"proftpd": cannot, "pure-ftpd": other_daemon.cannot}.get(daemon)
    if unable is not None and (reason := unable(topology, forecast)):
        return reason
    if forecast.predicted == "unknown":
        return "cannot be told"
    if forecast.target is not None and str(forecast.target) != target:
        return "another address comes first"
    six = forecast.target is not None and forecast.target.family == 6
    if program.name != "sftp" and six and program.mode == "active":
        return "PORT names no IPv6 address"
    if program.name == "curl" and program.mode == "active" and forecast.service.tls.mode != "none":
        return "curl 7.88.1 starts no TLS on a data connection that it has accepted"
    return ""


def main(count: int, first: int) -> int:
    """Run the trials; the number of disagreements."""
    for program in ("curl", "lftp"):
        version = subprocess.run([program, "--version"], capture_output=True, text=True, check=True).stdout
        print(version.splitlines()[0])
    print(subprocess.run(["ssh", "-V"], capture_output=True, text=True, check=True).stderr.strip())
    chosen = list(sites())[first : first + count]
    tally: Counter[str] = Counter()
    differing: list[Trial] = []
    with tempfile.TemporaryDirectory(prefix="lantern-daemon-") as files:
        lack = other_daemon.unpacked(Path(files))
        print(lack or ", ".join(sorted(each.name for each in Path(files).glob("*.deb"))))
        Path(files).chmod(0o755)
        for name, site in chosen:
            for each in tried(name, site, None if lack else Path(files)):
                tally[f"spared: {each.spared}" if each.spared else f"{each.daemon}: {each.observed}"] += 1
                differing += [each] if each.differs else []
    made = sum(number for what, number in tally.items() if not what.startswith("spared"))
    print(f"{len(chosen)} sites, {made} trials")
    for what, number in sorted(tally.items()):
        print(f"  {number:4d} {what}")
    print(f"disagreements: {len(differing)}")
    for each in differing:
        habits = ", ".join(f"{key}: {value}" for key, value in each.program.habits.items())
        print(f"{each.site}: {each.program.name}, {each.daemon}, {each.program.mode}, {habits}")
        print(f"  predicted {each.predicted}, observed {each.observed}")
    return len(differing)


if __name__ == "__main__":
    numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(1 if main(*(numbers + [60, 0][len(numbers) :])) else 0)
