"""How well `diagnose` names the causes of recorded faults from what the server's and the router's administrators have.

    server_evidence.py FOLDER [-v]

Each folder below FOLDER is a fault: daemons' logs (``server*.log``, the verbose ones left out), captures at the server
and outside the router (``server.pcap``, ``router-outside.pcap``), ``server.ss.txt``, ``router.conntrack.txt`` and the
filters' listings ``server.nft.txt`` and ``router.nft.txt``, with the site as it is meant and ``truth.json``. A row a
fault: whether a cause that is right stands in the first group from all of these together, and from each kind alone;
``-`` is that such a file shows nothing.
"""

import json
import sys
from collections import Counter
from pathlib import Path

from eager_lantern.core.diagnosis.diagnosis import Diagnosis, diagnose
from eager_lantern.core.model.site import Site
from eager_lantern.formats.evidence.all import read_evidence
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.formats.weights import shipped_knowledge

KNOWN = shipped_knowledge()
NAMED_HERE = {
    "p-too-many": [["too-many-connections"]],
    "s-allow-users": [["account-locked"]],
    "s-hostkey-changed": [["host-key-changed"]],
    "s-no-subsystem": [["ssh-subsystem-missing"]],
    "s-too-many": [["too-many-connections"]],
    "u-ports-used": [["range-in-use"]],
    "u-quota": [["storage-full"]],
    "v-announce-zero": [["announce-stale"]],
    "v-disk-full": [["storage-full"]],
    "p-range-outside": [["range-in-use"], ["range-left-to-system"], ["range-changed"]],
    "p-active-client-filter": [["client-other-mode"], ["default-shut"], ["client-names-private"]],
    "v-active-client-filter": [["client-other-mode"], ["default-shut"], ["client-names-private"]],
}
"""What names a fault whose recording has no name for it."""


def main() -> None:
    totals: Counter[str] = Counter()
    print(f"{'fault':<26}{'all':<20}{'logs':<18}{'captures':<18}{'ss':<18}{'conntrack':<18}{'filter':<18}")
    for folder in sorted(each for each in Path(sys.argv[1]).iterdir() if (each / "truth.json").exists()):
        truth = json.loads((folder / "truth.json").read_text())
        right = [frozenset(each) for each in NAMED_HERE.get(folder.name, truth["right"])]
        site = read_site(folder / "coast.site.yaml").site
        server, gateway = site.server.name, site.gateways[0].name
        logs = [(server, each) for each in sorted(folder.glob("server*.log")) if "verbose" not in each.name]
        captures = [(server, folder / "server.pcap"), (gateway, folder / "router-outside.pcap")]
        sockets, tracked = [(server, folder / "server.ss.txt")], [(gateway, folder / "router.conntrack.txt")]
        filters = [(server, folder / "server.nft.txt"), (gateway, folder / "router.nft.txt")]
        kinds = [[*logs, *captures, *sockets, *tracked, *filters], logs, captures, sockets, tracked, filters]
        found = [told(site, [(place, each) for place, each in files if each.exists()]) for files in kinds]
        words = [outcome(each, right) for each in found]
        totals[words[0].split(" ")[0]] += 1
        print(f"{folder.name:<26}{words[0]:<20}" + "".join(f"{each:<18}" for each in words[1:]))
        if "-v" in sys.argv:
            for name, each in zip(("all", "logs", "captures", "ss", "conntrack", "filter"), found, strict=True):
                print(f"      {name}: {first(each)[:6] if each else '-'}")
    print(dict(totals))


def told(site: Site, files: list[tuple[str, Path]]) -> Diagnosis | None:
    evidence = read_evidence(files, site)
    if "-v" in sys.argv:
        for each in evidence.unread:
            print("      unread:", str(each)[:200])
    if not evidence.observations and not any(each.names for each in evidence.testimonies):
        return None
    return diagnose(site, evidence.observations, KNOWN, testimonies=evidence.testimonies)


def first(found: Diagnosis) -> list[list[str]]:
    group = found.groups[0] if found.groups else None
    if group is None:
        return []
    causes: list[list[str]] = [sorted(each.kind for each in cause.hypothesis.faults) for cause in group.causes]
    for each in group.findings:
        causes.append([each.kind])
    return causes


def outcome(found: Diagnosis | None, right: list[frozenset[str]]) -> str:
    if found is None:
        return "-"
    if found.as_described:
        return "right" if not right else "AS PROMISED"
    if not found.groups:
        return "inconclusive"
    causes = [frozenset(each) for each in first(found)]
    return f"{'right' if any(each in right for each in causes) else 'WRONG'} ({len(causes)})"


main()
