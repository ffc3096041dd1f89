"""A command run as a host of the kernel lab, where the site's server serves or its lamp is lit, and where every other
host is reached over SSH: lab_shell.py SITE HOST serve|lamp COMMAND. Needs a terminal."""

import dataclasses
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.session import predict
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.kernel.lab import KernelLab
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.setup import Able, prepared
from eager_lantern.lab.servers.setup import Guest
from eager_lantern.lab.tasks.tasks import Look, Serve, Start, Task
from eager_lantern.live.own_process import program

PASSWORD, SECRET, PILOT = "ebb-and-flow-61", "a secret of the lamp and its sweep", "pilot"
SSHD = """
HostKey {folder}/host
AuthorizedKeysFile {folder}/user.pub
PidFile none
StrictModes no
UsePAM no
LogLevel QUIET
"""


def reachable(folder: Path, names: list[str]) -> Path:
    """The folder of an ssh that reaches each host of the lab: over a pipe to a server in its namespace."""
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / name], check=True)
    (folder / "passwd").write_text(f"{PILOT}:*:1000:1000::{folder}:/bin/sh\n")
    (folder / "sshd").write_text(SSHD.format(folder=folder))
    own = f"exec unshare --user --map-user=1000 --map-group=1000 {program('sshd')} -i"
    script = shlex.quote(f"mount --bind {folder}/passwd /etc/passwd && {own} -f {folder}/sshd")
    hosts = (
        f"Host {name}\n  ProxyCommand ip netns exec n{i} unshare --mount sh -c {script}\n"
        for i, name in enumerate(names)
    )
    common = f"Host *\n  IdentityFile {folder}/user\n  UserKnownHostsFile {folder}/known\n  LogLevel ERROR\n"
    (folder / "client").write_text("".join(hosts) + common + "  StrictHostKeyChecking accept-new\n")
    (folder / "bin").mkdir()
    command = folder / "bin" / "ssh"
    command.write_text(f'#!/bin/sh\nexec {shutil.which("ssh")} -F {folder}/client "$@"\n')
    command.chmod(0o755)
    return command.parent


def main(site: Path, host: str, serves: str, command: str) -> int:
    topology = Topology(read_site(site).site)
    forecasts = [predict(topology, each, ()) for each in topology.site.promises]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        ready = prepared(topology, forecasts, folder, False, Able(True, True))
        store = folder / "store"
        store.mkdir()
        nodes = lab_nodes(topology.site, ready.strangers)
        path = reachable(folder, [each.name for each in nodes])
        # a lab hands on neither a secret nor a search path
        told = ("env", f"EAGER_LANTERN_LAMP={SECRET}", f"EAGER_LANTERN_PASSWORD={PASSWORD}")
        told += (f"PATH={path}:{os.environ['PATH']}",)
        address = str(topology.server.addresses.each[0])
        with KernelLab(nodes) as lab:
            stand_in = next(each for each in ready.servers.stand_in if isinstance(each, Serve))
            setup = stand_in.setups[0]
            server: Task = Serve((dataclasses.replace(setup, guests=(Guest("station", PASSWORD, store),)),))
            if serves == "lamp":
                words = (*told, sys.executable, "-m", "eager_lantern", "lamp", str(site), "--lasts", "100 s")
                server = Start(words, address, setup.control_port, folder / "lamp.log")
            lab.do(topology.server.name, server)
            return int(lab.do(host, Look((*told, "/bin/sh", "-c", command))))


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]).absolute(), *sys.argv[2:]))
