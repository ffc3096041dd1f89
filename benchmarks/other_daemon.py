"""A second FTP daemon for the benchmarks: Debian's pure-ftpd, through its public interface.

Its package and the first daemon's refuse to be installed together, so its files are put into a folder of their own. It
changes to the account's user after the login, so it needs a lab whose root is the machine's.
"""

import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

from eager_lantern.core.model.site import Active, Passive, Service, Tls
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.endpoints import inside_peers, resolved
from eager_lantern.core.predict.forecast import Forecast
from eager_lantern.lab.daemons.proftpd import hashed
from eager_lantern.lab.servers.setup import Guest
from eager_lantern.lab.tasks.tasks import Start

PACKAGES = ("pure-ftpd", "pure-ftpd-common")
USER_NUMBER = 1000
FULL = "(the maximum) are already logged in"
"""What it says where it has no room for a further session."""
FTP_DATA_PORT = 20


def unpacked(folder: Path) -> str:
    """Put the daemon's files into a folder; why that cannot be, empty where it can."""
    if os.geteuid():
        return "pure-ftpd changes to the user of the account, which needs to be root"
    try:
        subprocess.run(
            ["apt-get", "-q", "download", *PACKAGES], cwd=folder, check=True, capture_output=True, timeout=120
        )
        for each in folder.glob("*.deb"):
            subprocess.run(["dpkg", "-x", each, folder], check=True, capture_output=True, timeout=60)
    except (OSError, subprocess.SubprocessError) as error:
        return f"pure-ftpd could not be had: {error}"
    return ""


def cannot(topology: Topology, forecast: Forecast) -> str:
    """What of a promise this daemon cannot do as described; empty where it can."""
    service, passive = forecast.service, forecast.service.passive or Passive()
    active = service.active or Active()
    if active.from_port is None or active.from_port.number != FTP_DATA_PORT:
        return "pure-ftpd connects from port 20 where it can"
    if active.repairs_private or active.accepts_other_address == service.peer_must_match:
        return "pure-ftpd takes other addresses for both modes or for none"
    if not service.speaks_epsv or service.tls.mode == "implicit" or service.tls.reuse_required:
        return "pure-ftpd always knows EPSV, and neither implicit TLS nor the demand of reuse"
    if not passive.announce.own and forecast.position.spec.uses_epsv:
        return "pure-ftpd knows no EPSV once it announces another address than its own"
    if len(passive.ports) < 2:
        return "pure-ftpd takes half as many sessions as it has data ports"
    peers = {number for each in forecast.control[:1] for number, _ in each.flow.sources.spans}
    told_apart = passive.announce_inside is not None and passive.announce_inside != passive.announce
    if told_apart and any(number in inside_peers(topology) for number in peers):
        return "pure-ftpd announces one address to all"
    return ""


def daemon(
    topology: Topology, service: Service, guests: Sequence[Guest], folder: Path, files: Path, served: Path
) -> Start:
    """Write its accounts into a new folder; the task starts it."""
    folder.mkdir(mode=0o711)
    rows = []
    for each in guests:
        os.chown(each.folder, USER_NUMBER, USER_NUMBER)
        each.folder.chmod(0o755)
        rows.append(f"{each.user}:{hashed(each)}:{USER_NUMBER}:{USER_NUMBER}::{each.folder}/./::::::::::::\n")
    (folder / "accounts").write_text("".join(rows))
    make = [str(files / "usr/bin/pure-pw"), "mkdb", str(folder / "accounts.db"), "-f", str(folder / "accounts")]
    subprocess.run(make, check=True, capture_output=True, timeout=30)
    words = [str(files / "usr/sbin/pure-ftpd"), "-S", str(service.control_port.number)]
    words += ["-E", "-A", "-H", "-b", "-f", "none"]
    words += ["-l", f"puredb:{folder / 'accounts.db'}", "-g", str(folder / "pid"), "-O", f"clf:{folder / 'log'}"]
    address = str(topology.server.addresses.each[0])
    return Start((*words, *_settings(topology, service, served)), address, service.control_port.number, folder / "out")


def _settings(topology: Topology, service: Service, served: Path) -> list[str]:
    passive, active = service.passive or Passive(), service.active or Active()
    low, high = passive.ports.spans[0]
    words = ["-p", f"{low}:{high}"]
    if not passive.announce.own:
        words += [part for each in resolved(topology, passive.announce).of_family(4)[:1] for part in ("-P", str(each))]
    words += ["-w"] if active.accepts_other_address else []
    return [*words, "-Y", str(_level(service.tls)), "-2", str(served)]


def _level(tls: Tls) -> int:
    """0 without TLS, 1 where it is offered, 2 where the control connection demands it, 3 where data does as well."""
    if tls.mode == "none":
        return 0
    return 1 if not tls.required else 3 if tls.protects_data else 2
