"""How well `diagnose` names the causes of recorded faults: logs and visits that real programs made.

    evidence.py FOLDER [-v]

Each folder below FOLDER is a fault: ``coast.site.yaml`` (the site as it is meant), ``CLIENT-PROGRAM.log``,
``CLIENT.seen.json`` (a kept visit) and ``truth.json``: ``right`` lists the sets of kinds that name the fault,
``stages`` how each program ended. A row a fault: whether a cause that is right stands in the first group of causes from
all logs together and from all visits, the size of that group (causes/pages of settings to look at), and how many single
logs come out right, inconclusive, or wrong. A log of a session that worked is right when it is reported as promised; a
failed one is never right as that.
"""

import json
import sys
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from eager_lantern.core.diagnosis.diagnosis import CauseGroup, Diagnosis, Knowledge, diagnose, pages_of
from eager_lantern.core.model.site import Site
from eager_lantern.core.observed.observation import Observation
from eager_lantern.formats.evidence.session_logs import read_session_logs
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.results.observations import read_observations
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.formats.weights import shipped_knowledge

NAMED_HERE = {
    "forward-source-limited": [["forward-other-source"]],
    "helper-blind-tls": [["helper-blind"]],
    "pure-too-many": [["too-many-connections"]],
    "quota": [["storage-full"]],
    "server-implicit": [["tls-implicit-explicit"]],
    "ssh-no-subsystem": [["ssh-subsystem-missing"]],
    "proftpd-range-taken": [["range-left-to-system"], ["range-changed"], ["range-in-use"]],
}
"""What names a fault whose recording has no name for it."""


def main() -> None:
    known = shipped_knowledge()
    singles: Counter[str] = Counter()
    whole: Counter[str] = Counter()
    sizes = []
    print(f"{'fault':<28}{'all logs':<16}{'visits':<16}right  inconclusive  wrong")
    for folder in sorted(each for each in Path(sys.argv[1]).iterdir() if (each / "truth.json").exists()):
        truth = json.loads((folder / "truth.json").read_text())
        right = [frozenset(each) for each in NAMED_HERE.get(folder.name, truth["right"])]
        site = read_site(folder / "coast.site.yaml").site
        worked = {name for name, code in truth["stages"].items() if code == 0}
        logs = [each for path in sorted(folder.glob("*.log")) for each in seen_in(path, site)]
        mine = Counter(
            outcome(diagnose(site, seen, known), right, failed=source not in worked, shows=shows(truth, source))
            for source, seen in logs
        )
        singles += mine
        fails = any(source not in worked for source, _ in logs)
        together = diagnosed(site, [each for _, seen in logs for each in seen], known)
        visits = [
            seen
            for path in sorted(folder.glob("*.seen.json"))
            for seen in read_observations(path, site, path.name.split(".")[0])
        ]
        from_visits = diagnosed(site, visits, known) if visits else None
        row = outcome(together, right, fails, True)
        whole[row] += 1
        if row == "right" and together.groups:
            sizes.append((together.groups[0].count, pages(together.groups[0])))
        seen_by = outcome(from_visits, right, True, True) if from_visits else "-"
        print(
            f"{folder.name:<28}{row + size(together):<16}{seen_by + size(from_visits):<16}"
            f"{mine['right']:5}  {mine['inconclusive']:12}  {mine['wrong'] + mine['as promised']:5}"
        )
        if "-v" in sys.argv:
            print(f"    logs:   {kinds(together)}\n    visits: {kinds(from_visits)}")
            for source, seen in logs:
                found = diagnose(site, seen, known)
                print(f"    {source}: {outcome(found, right, source not in worked, True)}: {kinds(found)}")
    causes, places = (sum(each) / max(1, len(sizes)) for each in zip(*sizes, strict=True))
    print(
        f"all logs: {dict(whole)}; in a first group that is right: {causes:.1f} causes, {places:.1f} pages to look at"
    )
    print(f"single logs: {dict(singles)}")


def shows(truth: dict[str, Any], source: str) -> bool:
    """Whether a single log can show all of the truth: of two faults it shows at most one."""
    return not any(len(each) > 1 for each in truth["right"])


def seen_in(path: Path, site: Site) -> list[tuple[str, tuple[Observation, ...]]]:
    try:
        return [(path.stem, read_session_logs(path, site, path.name.split("-")[0]))]
    except BadInput as error:
        print(f"  unreadable: {error}")
        return []


def diagnosed(site: Site, seen: Sequence[Observation], known: Knowledge) -> Diagnosis:
    return diagnose(site, seen, known)


def first(found: Diagnosis) -> list[frozenset[str]]:
    group = found.groups[0] if found.groups else None
    if group is None:
        return []
    return [
        *(frozenset(each.kind for each in cause.hypothesis.faults) for cause in group.causes),
        *(frozenset([each.kind]) for each in group.findings),
    ]


def outcome(found: Diagnosis, right: Sequence[frozenset[str]], failed: bool, shows: bool) -> str:
    if found.as_described:
        return "as promised" if failed else "right"
    if not found.groups:
        return "inconclusive"
    if not shows and any(each <= truth for each in first(found) for truth in right):
        return "right"
    return "right" if any(each in right for each in first(found)) else "wrong"


def size(found: Diagnosis | None) -> str:
    return f" ({found.groups[0].count}/{pages(found.groups[0])})" if found and found.groups else ""


def pages(group: CauseGroup) -> int:
    """Pages of settings to look at; of two faults at once those of both."""
    return sum(map(len, pages_of(group)))


def kinds(found: Diagnosis | None) -> str:
    if found is None:
        return "-"
    return " | ".join("+".join(sorted(each)) for each in first(found)[:8]) or (
        "as promised" if found.as_described else "none"
    )


main()
