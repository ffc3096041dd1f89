"""A real daemon in place of the stand-in: Debian's proftpd, configured as a service says.

It keeps everything in a folder of its own and runs in the lab, where its user is the one
that the lab has. What it cannot do as described is told by :func:`cannot`.
"""

import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec.structs import replace

from ...core.model.entries import Destination
from ...core.model.site import Active, Passive, Service
from ...core.network.topology import Topology
from ...core.predict.endpoints import inside_peers, resolved
from ...core.predict.forecast import Forecast
from ...formats.devices.proftpd import tls_lines, transfer_lines
from ...live.own_process import environment_of_system, program
from ..servers.setup import Guest
from ..tasks.tasks import Start

PROGRAM = "proftpd"
PACKAGES = "proftpd-core and proftpd-mod-crypto"
MODULES = Path("/usr/lib/proftpd")
_LETTER_COMMANDS = {"w": "STOR", "r": "RETR", "d": "DELE"}
_ACTIVE_OFFSET = -1
"""It connects from the port below its control port (RFC 959, section 3.2: L-1)."""


def missing_daemon() -> str:
    """Why the daemon cannot run here, in a sentence; empty where it can."""
    if program(PROGRAM) is None:
        return f"{PROGRAM} is missing: install the packages {PACKAGES}"
    return "" if (MODULES / "mod_tls.so").exists() else f"its module mod_tls is missing: install {PACKAGES}"


def cannot(topology: Topology, forecast: Forecast) -> str:
    """What of a promise the daemon cannot do as described; empty where it can."""
    service, passive = forecast.service, forecast.service.passive or Passive()
    active = service.active or Active()
    if active.from_port and active.from_port.number != service.control_port.number + _ACTIVE_OFFSET:
        return f"{PROGRAM} connects from port {service.control_port.number + _ACTIVE_OFFSET} only"
    if active.accepts_other_address == service.peer_must_match:
        return f"{PROGRAM} takes other addresses for both modes or for none"
    peers = {number for each in forecast.control[:1] for number, _ in each.flow.sources.spans}
    told_apart = passive.announce_inside is not None and passive.announce_inside != passive.announce
    if told_apart and any(number in inside_peers(topology) for number in peers):
        return f"{PROGRAM} announces one address to all"
    return ""


def daemon(topology: Topology, service: Service, guests: Sequence[Guest], folder: Path, served: Path | None) -> Start:
    """Write its files into a new folder; the task starts it."""
    folder.mkdir()
    accounts = (f"{each.user}:{hashed(each)}:0:0::{each.folder}:/bin/false\n" for each in guests)
    (folder / "passwd").write_text("".join(accounts))
    (folder / "group").write_text("lab:x:0:\n")
    for name in ("passwd", "group"):
        (folder / name).chmod(0o600)
    configuration = folder / "proftpd.conf"
    configuration.write_text("\n".join(_configuration(topology, service, guests, folder, served)) + "\n")
    return Start(
        (PROGRAM, "-n", "-c", str(configuration)),
        str(topology.server.addresses.each[0]),
        service.control_port.number,
        folder / "output.log",
    )


def hashed(guest: Guest) -> str:
    """The password of an account as crypt(3) has it."""
    command = ["openssl", "passwd", "-6", "-stdin"]
    done = subprocess.run(
        command,
        input=guest.password,
        capture_output=True,
        text=True,
        check=True,
        env=environment_of_system(),
        timeout=30,
    )
    return done.stdout.strip()


def _configuration(
    topology: Topology, service: Service, guests: Sequence[Guest], folder: Path, served: Path | None
) -> Iterator[str]:
    passive, active = service.passive or Passive(), service.active or Active()
    announced = None if passive.announce.own else next(iter(resolved(topology, passive.announce).of_family(4)), None)
    known = replace(passive, announce=Destination.parse(str(announced or "own")))
    yield from transfer_lines(replace(service, passive=known))
    yield from (
        "ServerType standalone",
        f'ServerName "{topology.server.name}"',
        "DefaultServer on",
        f"DefaultAddress {' '.join(map(str, topology.server.addresses.each))}",
        "SocketBindTight on",
        f"PidFile {folder}/pid",
        f"ScoreboardFile {folder}/scoreboard",
        f"SystemLog {folder}/system.log",
        f"ModulePath {MODULES}",
        "User root",
        "Group root",
        "RootLogin on",
        "AuthOrder mod_auth_file.c",
        f"AuthUserFile {folder}/passwd",
        f"AuthGroupFile {folder}/group",
        "RequireValidShell off",
        "WtmpLog off",
        "TransferLog none",
        "UseReverseDNS off",
        "AllowOverwrite on",
        "DefaultRoot ~",
        # public interface: without its rights it connects from any port, as a service without from_port does
        f"RootRevoke {'off' if active.from_port else 'UseNonCompliantActiveTransfer'}",
    )
    for guest in guests:
        for letter, command in _LETTER_COMMANDS.items():
            if letter not in guest.rights:
                yield f"<Limit {command}>\nDenyUser {guest.user}\n</Limit>"
    if service.tls.mode != "none" and served is not None:
        yield from _tls(service, folder, served)


def _tls(service: Service, folder: Path, served: Path) -> Iterator[str]:
    yield from ("LoadModule mod_tls.c", f"TLSLog {folder}/tls.log")
    yield from tls_lines(replace(service, tls=replace(service.tls, certificate="", key="")))
    yield from (f"TLSECCertificateFile {served}", f"TLSECCertificateKeyFile {served}")
