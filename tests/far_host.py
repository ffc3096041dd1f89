"""Another host for tests: a real SSH server on loopback, and an ssh whose configuration leads there."""

import contextlib
import getpass
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import psutil
import pytest
from daemon import free_port

SERVER = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
needs_ssh = [
    pytest.mark.daemon,
    pytest.mark.skipif(
        SERVER is None or shutil.which("ssh") is None, reason="needs OpenSSH (apt install openssh-server)"
    ),
]
CONFIGURATION = """
Port {port}
ListenAddress 127.0.0.1
HostKey {folder}/host
AuthorizedKeysFile {folder}/user.pub
PidFile none
StrictModes no
PermitRootLogin yes
UsePAM no
LogLevel ERROR
{extra}
"""


@dataclass(frozen=True)
class FarHost:
    """A host that is reached by ``place``, once ``path`` is the search path."""

    place: str
    path: str
    server: psutil.Process

    def far_ends(self) -> list[psutil.Process]:
        """What runs on it for a visit."""
        return [
            each
            for each in self.server.children(recursive=True)
            if "exec(sys.stdin" in " ".join(_words(each)) and each.status() != psutil.STATUS_ZOMBIE
        ]


def _words(process: psutil.Process) -> list[str]:
    with contextlib.suppress(psutil.Error):
        return process.cmdline()
    return []


@contextlib.contextmanager
def far_host(folder: Path, extra: str = "") -> Iterator[FarHost]:
    port = free_port()
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / name], check=True)
    (folder / "sshd").write_text(CONFIGURATION.format(port=port, folder=folder, extra=extra))
    (folder / "client").write_text(
        f"Host *\n  IdentityFile {folder}/user\n  UserKnownHostsFile {folder}/known\n"
        "  StrictHostKeyChecking accept-new\n  LogLevel ERROR\n"
    )
    (folder / "bin").mkdir()
    command = folder / "bin" / "ssh"
    command.write_text(f'#!/bin/sh\nexec {shutil.which("ssh")} -F {folder}/client "$@"\n')
    command.chmod(0o755)
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    assert SERVER is not None
    with (folder / "log").open("w") as log:
        server = subprocess.Popen([SERVER, "-D", "-e", "-f", folder / "sshd"], stderr=log)
    try:
        _wait_for(port, folder / "log")
        place = f"ssh://{getpass.getuser()}@127.0.0.1:{port}"
        yield FarHost(place, f"{command.parent}:{os.environ['PATH']}", psutil.Process(server.pid))
    finally:
        server.terminate()
        server.wait(timeout=10)


def _wait_for(port: int, log: Path) -> None:
    for _ in range(100):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
            return
        time.sleep(0.05)
    raise RuntimeError(log.read_text())
