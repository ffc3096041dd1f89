"""A command as a host of the kernel lab, to its end: what it prints is kept, and whoever waits sees when it is done."""

import os
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

from eager_lantern.core.network.topology import Host
from eager_lantern.lab.kernel.lab import KernelLab
from eager_lantern.lab.tasks.tasks import Start

READY, PATIENCE = 9999, 150


def done_at(lab: KernelLab, host: Host, folder: Path, *words: str) -> str:
    """Run a command in a folder, first its settings as ``env`` has them, and get what it printed."""
    own, end = str(host.addresses.each[0]), time.monotonic() + PATIENCE
    done, log = folder / f"{host.name}.done", folder / f"{host.name}.log"
    command = (sys.executable, str(Path(__file__)), own, str(done), str(folder), "env", *words)
    lab.do(host.name, Start(command, own, READY, log))
    while not done.exists():
        assert time.monotonic() < end, log.read_text()
        time.sleep(0.1)
    assert done.read_text() == "0", log.read_text()
    return log.read_text()


def main(own: str, done: str, folder: str, *words: str) -> None:
    family = socket.AF_INET6 if ":" in own else socket.AF_INET
    ready = socket.create_server((own, READY), family=family)  # whoever started this waits for it
    threading.Thread(target=ready.accept, daemon=True).start()
    os.chdir(folder)
    code = subprocess.run(words, check=False).returncode
    Path(f"{done}.part").write_text(str(code))
    Path(f"{done}.part").rename(done)


if __name__ == "__main__":
    main(*sys.argv[1:])
