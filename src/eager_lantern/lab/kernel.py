"""The kernel lab: a described site built on this machine, and real connections sent through it.

The whole lab lives in private user, mount, network and process namespaces of one child
process: it needs no privileges where the system allows that, cannot touch the host's rules,
and is gone when the process is gone, however that ends.
"""

import json
import shutil
import subprocess
import sys

import msgspec

from ..core.site import Site, Transport
from .kernel_plan import lab_nodes

UNSHARE = ("unshare", "-Urnm", "--pid", "--fork", "--kill-child")
MEANS = {"unshare": "util-linux", "ip": "iproute2", "nft": "nftables"}
PATIENCE_SECONDS = 0.9
SPARE_SECONDS = 60


class LabMissing(RuntimeError):
    """A means that the lab needs is not there, with how to get it."""


class Probe(msgspec.Struct, frozen=True):
    """One connection to try, from a host of the site."""

    sender: str
    protocol: Transport
    source: str
    source_port: int
    to: str
    port: int


class Seen(msgspec.Struct, frozen=True):
    """What became of a probe; for ``ok`` where it arrived and who it seemed to be there."""

    outcome: str
    at: str = ""
    port: int = 0
    source: str = ""
    source_port: int = 0
    error: str = ""


def missing_means() -> str:
    """Why there can be no kernel lab here, in a sentence; empty where there can."""
    for command, package in MEANS.items():
        if shutil.which(command) is None:
            return f"{command} is missing: install the package {package}"
    tried = subprocess.run([*UNSHARE, "true"], capture_output=True, text=True, check=False)
    return "" if tried.returncode == 0 else f"this system allows no private namespaces: {tried.stderr.strip()}"


def observed(site: Site, probes: list[Probe], ports: list[int]) -> list[Seen]:
    """Build the site, listen on these ports of every host, and send all probes at once.

    Raises CannotBuild for what the lab does not build, and LabMissing when it cannot run.
    """
    nodes = msgspec.to_builtins(lab_nodes(site))
    listed = [{**msgspec.to_builtins(each), "id": str(i), "from": each.sender} for i, each in enumerate(probes)]
    job = {"nodes": nodes, "probes": listed, "ports": ports, "seconds": PATIENCE_SECONDS}
    command = [*UNSHARE, sys.executable, "-m", "eager_lantern.lab.kernel_run"]
    done = subprocess.run(
        command, input=json.dumps(job), capture_output=True, text=True, timeout=SPARE_SECONDS, check=False
    )
    if done.returncode:
        raise LabMissing(f"the lab could not be built: {done.stderr.strip().splitlines()[-1:]}")
    results = msgspec.json.decode(done.stdout, type=dict[str, Seen])
    return [results[str(i)] for i in range(len(probes))]
