"""A real SSH daemon in place of the stand-in: OpenSSH's, configured as a service says.

In the lab there is one user only, the one that the lab runs as, and a daemon that is root would want
more of them. So it runs in namespaces of its own, where that user is an ordinary one, and where the
lab's accounts are names of it; its mount namespace has their passwords.
"""

import shlex
from collections.abc import Iterator, Sequence
from pathlib import Path

from ...core.model.site import Service
from ...core.network.topology import Topology
from ...formats.devices.openssh import service_lines
from ...live.own_process import program
from ..servers.setup import Guest
from ..tasks.tasks import Start
from .proftpd import hashed

PROGRAM = "sshd"
USER_NUMBER = 1000
_REQUESTS = {"w": "write", "d": "remove", "f": "rename", "m": "mkdir"}


def missing_ssh_daemon() -> str:
    """Why the daemon cannot run here, in a sentence; empty where it can."""
    return "" if program(PROGRAM) else f"{PROGRAM} is missing: install the package openssh-server"


def ssh_daemon(topology: Topology, service: Service, guests: Sequence[Guest], folder: Path, host_key: Path) -> Start:
    """Write its files into a new folder; the task starts it."""
    folder.mkdir()
    accounts = (f"{each.user}:{hashed(each)}:{USER_NUMBER}:{USER_NUMBER}::{each.folder}:/bin/sh\n" for each in guests)
    passwords, configuration = folder / "passwd", folder / "sshd.conf"
    passwords.write_text("".join(accounts))
    configuration.write_text("\n".join(_configuration(topology, service, guests, host_key)) + "\n")
    own = f"unshare --user --map-user={USER_NUMBER} --map-group={USER_NUMBER}"
    script = (
        f"mount --bind {shlex.quote(str(passwords))} /etc/passwd && exec {own} {program(PROGRAM) or PROGRAM} -D -e -f"
    )
    return Start(
        ("unshare", "--mount", "sh", "-c", f"{script} {shlex.quote(str(configuration))}"),
        str(topology.server.addresses.each[0]),
        service.control_port.number,
        folder / "output.log",
    )


def _configuration(topology: Topology, service: Service, guests: Sequence[Guest], host_key: Path) -> Iterator[str]:
    yield from service_lines(service)
    yield from (f"ListenAddress {each}" for each in topology.server.addresses.each)
    yield from (
        f"HostKey {host_key}",
        "PidFile none",
        "UsePAM no",
        "StrictModes no",
        "PasswordAuthentication yes",
        "PubkeyAuthentication no",
        "KbdInteractiveAuthentication no",
        "UseDNS no",
    )
    for guest in guests:
        denied = ",".join(name for letter, name in _REQUESTS.items() if letter not in guest.rights)
        options = f" -P {denied}" if denied else ""
        yield f"Match User {guest.user}\n  ForceCommand internal-sftp -d {guest.folder}{options}"
