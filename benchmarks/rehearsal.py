"""The demo site in the kernel lab: from start to torn down, against the sessions alone.

The limit is five times as long.
"""

import sys
import tempfile
import time
from importlib.resources import files
from pathlib import Path

from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.session import predict
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.kernel.lab import KernelLab, has_helper
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.setup import Able, prepared

LIMIT = 5
SITE = "saltmarsh-after.site.yaml"


def measured(name: str) -> float:
    began = time.perf_counter()
    site = read_site(Path(str(files("eager_lantern") / "data" / name))).site
    topology = Topology(site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(site.promises)]
    with tempfile.TemporaryDirectory() as folder:
        ready = prepared(topology, forecasts, Path(folder), with_daemon=False, able=Able(has_helper(), True))
        with KernelLab(lab_nodes(site, ready.strangers)) as lab:
            sessions_began = time.perf_counter()
            results = ready.rehearsed(lab, lambda news: None)
            sessions = time.perf_counter() - sessions_began
    whole = time.perf_counter() - began
    tried = sum(len(each.observed.tried) for each in results if each.observed)
    agree = sum(each.agree is True for each in results)
    print(f"{name}: {agree} of {len(results)} agree, {tried} data ports tried")
    print(f"  whole {whole:.2f} s, sessions alone {sessions:.2f} s, ratio {whole / sessions:.2f} (limit {LIMIT})")
    return whole / sessions


if __name__ == "__main__":
    sys.exit(int(measured(SITE) > LIMIT))
