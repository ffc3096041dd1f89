"""A real daemon for the tests: Debian's proftpd, on high ports, with a configuration of its own."""

import contextlib
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

BINARY = shutil.which("proftpd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
MODULES = Path("/usr/lib/proftpd")
USER, PASSWORD = "station", "ebb-and-flow-61"

needs_daemon = [
    pytest.mark.daemon,
    pytest.mark.skipif(
        BINARY is None or not (MODULES / "mod_tls.so").exists(),
        reason="needs proftpd (apt install proftpd-core proftpd-mod-crypto)",
    ),
]

RANGE, ANNOUNCE = "Passive" + "Ports", "Masquerade{}".format("Address")  # the daemon's own directives
CONFIGURATION = """
ServerType standalone
ServerName "gauge-store"
DefaultServer on
UseIPv6 off
Port {port}
DefaultAddress 127.0.0.1
SocketBindTight on
PidFile {folder}/proftpd.pid
ScoreboardFile {folder}/scoreboard
ModulePath /usr/lib/proftpd
User {account}
Group {group}
AuthOrder mod_auth_file.c
AuthUserFile {folder}/passwd
AuthGroupFile {folder}/group
RequireValidShell off
WtmpLog off
TransferLog none
SystemLog {folder}/system.log
UseReverseDNS off
AllowOverwrite on
{range} 61300 61399
{extra}
"""

TLS = """
LoadModule mod_tls.c
<IfModule mod_tls.c>
TLSEngine on
TLSRequired on
TLSLog {folder}/tls.log
TLSProtocol TLSv1.2 TLSv1.3
TLSRSACertificateFile {certificate}
TLSRSACertificateKeyFile {certificate}
</IfModule>
"""


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextlib.contextmanager
def daemon(folder: Path, extra: str = "") -> Iterator[int]:
    """Run the daemon until the context ends; the port that it listens on."""
    port, store = free_port(), folder / "store"
    store.mkdir()
    account = "nobody" if os.getuid() == 0 else str(os.getuid())
    shutil.chown(store, 65534, 65534) if os.getuid() == 0 else None
    hashed = subprocess.run(
        ["openssl", "passwd", "-6", PASSWORD], capture_output=True, text=True, check=True
    ).stdout.strip()
    uid, gid = (65534, 65534) if os.getuid() == 0 else (os.getuid(), os.getgid())
    (folder / "passwd").write_text(f"{USER}:{hashed}:{uid}:{gid}::{store}:/bin/false\n")
    (folder / "passwd").chmod(0o600)
    (folder / "group").write_text(f"tides:x:{gid}:\n")
    (folder / "group").chmod(0o600)
    configuration = folder / "proftpd.conf"
    group = "nogroup" if os.getuid() == 0 else str(os.getgid())
    configuration.write_text(
        CONFIGURATION.format(port=port, folder=folder, account=account, group=group, extra=extra, range=RANGE)
    )
    assert BINARY is not None
    with (folder / "output.log").open("w") as output:
        process = subprocess.Popen([BINARY, "-n", "-c", str(configuration)], stdout=output, stderr=output)
        try:
            _wait_for(port, process, folder)
            yield port
        finally:
            process.terminate()
            process.wait(timeout=10)


def _wait_for(port: int, process: subprocess.Popen[bytes], folder: Path) -> None:
    for _ in range(100):
        if process.poll() is not None:
            break
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
            return
        time.sleep(0.1)
    raise RuntimeError((folder / "output.log").read_text()[-2000:])
