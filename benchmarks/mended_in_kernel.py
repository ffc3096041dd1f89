"""Mended sites in the kernel lab, with the rule files that devices would load: whether every promise is kept there,
and whether what passed before the change still does.

Usage: mended_in_kernel.py [SITES] [SEED] [PROCESSES]. Each site is one that was meant to work, with entries for other
traffic and with up to four faults. Before the change and after it the same sampled connections are sent. What arrived
before and was meant to, and does not arrive after, is lost; the exit code is not 0 if anything is, or if a promise is
not seen to be kept.
"""

import random
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from json import dumps, loads
from pathlib import Path
from typing import Any, NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from faulty_sites import STRANGERS, arrives, counted, faulty_site, samples
from msgspec import to_builtins
from plain import Packet
from side_by_side import exported

from eager_lantern.core.mending.mend import mend
from eager_lantern.core.model.change import changed
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.session import predict
from eager_lantern.core.sheets.sheet import slug
from eager_lantern.core.verdict import judge
from eager_lantern.formats.devices.packet_filter.nftables import rule_files
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.formats.weights import shipped_costs
from eager_lantern.lab.kernel.lab import KernelLab, exchanged, has_helper
from eager_lantern.lab.rehearsal.setup import Able, prepared
from eager_lantern.lab.tasks.probes import Probe, ProbeSeen

MOST_CONNECTIONS = 200
FIRST_SOURCE_PORT = 30000
Site = dict[str, Any]


class Seen(NamedTuple):
    """What the kernel made of one mended site."""

    promises: int
    connections: int
    lost: list[str]
    broken: list[str]


def with_strangers(site: Site) -> Site:
    """The site with Linux devices, and with hosts for others beside its clients."""
    known = {each["address"] for each in (*site["clients"], site["server"])}
    linux = [{**each, "system": "linux"} for each in (site["server"], *site["gateways"])]
    others = [each for each in STRANGERS if each["address"] not in known]
    return {**site, "server": linux[0], "gateways": linux[1:], "clients": [*site["clients"], *others]}


def probes_of(chance: random.Random, *sites: Site) -> list[Probe]:
    """Connections that tell the sites apart, each with a source port of its own."""
    hosts = {each["name"] for each in (*sites[0]["clients"], sites[0]["server"])}
    found = [(name, each) for name, each in samples(chance, *map(counted, sites)) if name in hosts]
    some = chance.sample(found, min(len(found), MOST_CONNECTIONS))
    return [
        Probe(name, each.protocol, each.source, FIRST_SOURCE_PORT + i, each.to, each.port)
        for i, (name, each) in enumerate(some)
    ]


def in_kernel(data: Site, probes: list[Probe], tries_promises: bool) -> tuple[list[ProbeSeen], list[str], int]:
    """What becomes of connections in a site whose devices have loaded its rule files, and what is not kept there."""
    site = parse_site("site", dumps(data)).site
    topology = Topology(site)
    promises = site.promises if tries_promises else ()
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(promises)]
    ports = sorted({each.port for each in probes})
    with tempfile.TemporaryDirectory(prefix="lantern-mended-") as folder:
        rules = Path(folder) / "rules"
        rules.mkdir()
        for name, text in rule_files(site).items():
            (rules / f"{slug(name)}.nft").write_text(text)
        ready = prepared(topology, forecasts, Path(folder), with_daemon=False, able=Able(has_helper(), True))
        with KernelLab(exported(rules)(site, ready.strangers)) as lab:
            seen = exchanged(lab, probes, ports)
            results = ready.rehearsed(lab, lambda news: None) if promises else []
    broken = [f"{each.forecast.promise}: {each.reason or each.differences}" for each in results if not each.kept]
    return seen, broken, len(results)


def held(seed: int) -> Seen | None:
    """One site before and after its plan; None where there is nothing to mend, or no plan."""
    faulty = faulty_site(seed)
    meant, found = (parse_site("site", dumps(each)).site for each in (faulty.meant, faulty.found))
    if judge(meant).verdict != "kept" or judge(found).verdict == "kept":
        return None
    plan = mend(found, shipped_costs()).plan
    if plan is None:
        return None
    after = loads(dumps(to_builtins(changed(found, *plan.changes), enc_hook=str)))
    sites = [with_strangers(each) for each in (faulty.found, after)]
    probes = probes_of(random.Random(seed), *sites)
    before, _, _ = in_kernel(sites[0], probes, False)
    now, broken, tried = in_kernel(sites[1], probes, True)
    plainly = counted(faulty.meant)
    lost = [
        f"{probe}: arrived at {was.at}, now {then.outcome} {then.at}"
        for probe, was, then in zip(probes, before, now, strict=True)
        if was.outcome == "ok" and (then.outcome, then.at) != ("ok", was.at) and _is_meant(plainly, probe, was.at)
    ]
    return Seen(tried, sum(each.outcome == "ok" for each in before), lost, broken)


def _is_meant(site: Site, probe: Probe, at: str) -> bool:
    """Whether by plain reading the site as it was meant lets this arrive there too."""
    packet = Packet(probe.protocol, probe.source, probe.source_port, probe.to, probe.port)
    return str(arrives(site, probe.sender, packet)) == at


def main(count: int, seed: int, processes: int) -> int:
    began, done, promises, connections, troubles = time.perf_counter(), 0, 0, 0, list[str]()
    with ProcessPoolExecutor(processes) as pool:
        number = seed
        while done < count:
            numbers = range(number, number + min(count - done, 4 * processes))
            number = numbers.stop
            for which, seen in zip(numbers, pool.map(held, numbers), strict=True):
                if seen is not None:
                    done, promises, connections = done + 1, promises + seen.promises, connections + seen.connections
                    troubles += [f"{which}: {each}" for each in (*seen.lost, *seen.broken)]
    seconds = time.perf_counter() - began
    print(
        f"{done} mended sites in the kernel, seed {seed}: {promises} promises, {connections} connections that arrived "
        f"before; {len(troubles)} lost or not kept; {seconds:.0f} s"
    )
    for each in troubles:
        print(f"  {each}")
    return int(bool(troubles))


if __name__ == "__main__":
    given_numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*given_numbers, *(100, 61, 2)[len(given_numbers) :]))
