"""Faults put into working sites and rehearsed in the kernel lab: does `diagnose` name them?

Usage: diagnosis.py [EACH] [SEED] [PROCESSES] [pairs], EACH being how often every kind of fault is put in.
What is given to `diagnose` is what real sessions saw in a lab with real packet filters, never a prediction. Printed:
how often the true cause is in the first group, how large that is, what was seen where it was missed, and what the
advised tests cost until nothing can be told apart any more, beside the best order of tests that there is. Then the
session logs of the tests, each with a fifth of its lines missing. The exit code tells whether any single fault was
missed, or the tests cost more than a tenth above the best.
"""

import dataclasses
import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from json import dumps
from pathlib import Path
from typing import NamedTuple

import yaml
from msgspec.structs import replace

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from program import AFTER
from test_sites import changed as with_set
from working_sites import working_site

from eager_lantern.cli.labs import LabKind, able
from eager_lantern.core.diagnosis.diagnosis import Diagnosis, diagnose, settled
from eager_lantern.core.diagnosis.fault import Effect, Fault, changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.diagnosis.hypotheses import Predictions
from eager_lantern.core.diagnosis.next_test import LEAST_BITS, Spread, information, spreads_of
from eager_lantern.core.model.change import changed
from eager_lantern.core.model.site import Site, complete
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.observation import Observation, Situation
from eager_lantern.core.observed.rehearsed import Rehearsed
from eager_lantern.core.predict.session import predict
from eager_lantern.core.values.outcomes import Rung
from eager_lantern.core.verdict import judge
from eager_lantern.formats.evidence.session_logs import read_session_logs
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.results.observations import observations_of_rehearsal
from eager_lantern.formats.results.rehearse import rehearse_result
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.formats.weights import shipped_knowledge
from eager_lantern.lab.kernel.lab import KernelLab
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.rehearsal.scenarios import listened_on
from eager_lantern.lab.rehearsal.setup import Prepared, prepared
from eager_lantern.lab.servers.setup import EVERY_RIGHT, Guest, SshSetup, StandInSetup
from eager_lantern.lab.servers.ssh_server import write_self_signed
from eager_lantern.lab.tasks.tasks import Greet, Serve, ServeSsh, Task

LOGS = Path(__file__).parent.parent / "tests" / "cases"
ELSEWHERE = 4021
"""A port on which no client looks for the service."""
UNINJECTED = {
    "not-promised", "too-many-connections", "storage-full", "passive-refused", "range-in-use", "tls-version-differs",
    "tls-implicit-explicit", "certificate-issuer-unknown", "ssh-subsystem-missing", "ssh-algorithms-differ",
    "host-key-changed", "account-shell-refused", "account-root-writable", "account-home-owner", "client-barred",
    "client-dials-elsewhere", "name-unresolved",
}  # fmt: skip
"""No fault of a device, or none that the lab's stand-in servers can have: benchmarks/evidence.py holds these against
recordings of real ones."""
HARMLESS = {"helper-on"}
"""By the prediction it changes no session of these sites, which tell every client the address that it knows. It is put
in all the same, so that a real kernel says whether that is so."""
MOST_TRIES = 400
LOG_TIMES = 5
MOST_CAUSES, MOST_TESTS = 8, 5
"""Causes and tests in a row up to which every order of tests is tried."""


class Case(NamedTuple):
    """A fault, what was seen of it, and where it came in the diagnosis: the number of its group, None where it is in
    none; ``shown`` is whether anything failed at all."""

    kind: str
    shown: bool
    group: int | None
    size: int
    groups: int
    report: str
    tests: float = 0.0
    cost: float = 0.0
    best: float = 0.0


def broken_site(site: Site, faults: tuple[Fault, ...], chance: random.Random) -> Site:
    """The site with its faults; a client in the other mode transfers in that."""
    ways = [chance.choice(each.variants) for each in faults]
    broken = changed(settled(site), *(change for way in ways for change in changes_in(way)))
    modes = {each.name: complete(broken, each).modes[0] for each in broken.clients}
    strayed = {each.at for each in faults if each.kind == "client-other-mode"}
    promises = (replace(each, mode=modes[each.client]) if each.client in strayed else each for each in broken.promises)
    return replace(broken, promises=tuple(promises))


def in_lab(broken: Site, faults: tuple[Fault, ...]) -> list[Rehearsed]:
    """Every promise of a site with its faults, rehearsed in the kernel lab."""
    topology = Topology(broken)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(broken.promises)]
    with tempfile.TemporaryDirectory(prefix="lantern-fault-") as name:
        folder = Path(name)
        ready = prepared(topology, forecasts, folder, with_daemon=False, able=able(LabKind.kernel))
        for each in faults:
            ready = _with_effect(ready, each, folder)
        with KernelLab(lab_nodes(broken, ready.strangers)) as lab:
            return ready.rehearsed(lab, lambda news: None)


def _with_effect(ready: Prepared, fault: Fault, folder: Path) -> Prepared:
    """The lab's servers with what no key of a site says."""
    effect = next((each for each in fault.variants[0] if isinstance(each, Effect)), None)
    if effect is None:
        return ready
    tasks = ready.servers.stand_in
    guests = [(each.guest.user, each.forecast.promise.client) for each in ready.scenarios if each.guest]
    mine = {user for user, client in guests if not effect.clients or client in effect.clients}
    if fault.kind == "other-program-on-port":
        ports = {each.control_port.number: "web cabin" for each in ready.topology.site.services}
        done: tuple[Task, ...] = (Greet(tuple(map(str, listened_on(ready.topology))), ports),)
    else:
        done = tuple(_done_to(each, fault.kind, effect.rung, mine, folder) for each in tasks)
    return dataclasses.replace(ready, servers=dataclasses.replace(ready.servers, stand_in=done))


def _done_to(task: Task, kind: str, rung: Rung, users: set[str], folder: Path) -> Task:
    if isinstance(task, Serve):
        return dataclasses.replace(task, setups=tuple(_setup(each, kind, rung, users, folder) for each in task.setups))
    if isinstance(task, ServeSsh):
        return dataclasses.replace(task, setups=tuple(_ssh_setup(each, kind, rung, users) for each in task.setups))
    return task


def _ssh_setup(setup: SshSetup, kind: str, rung: Rung, users: set[str]) -> SshSetup:
    if kind in ("service-not-running", "service-on-other-port"):
        return dataclasses.replace(setup, doors=tuple((address, ELSEWHERE) for address, _ in setup.doors))
    return dataclasses.replace(setup, guests=tuple(_guest(each, kind, rung, users) for each in setup.guests))


def _guest(guest: Guest, kind: str, rung: Rung, users: set[str]) -> Guest:
    if guest.user not in users:
        return guest
    if kind in ("account-locked", "account-mistyped"):
        return dataclasses.replace(guest, password="another")
    # a folder that is not there is to a session the same as one that may not be listed
    return dataclasses.replace(guest, rights="e" if rung == "list" else EVERY_RIGHT.replace("w", ""))


def _setup(setup: StandInSetup, kind: str, rung: Rung, users: set[str], folder: Path) -> StandInSetup:
    match kind:
        case "service-not-running" | "service-on-other-port":
            return dataclasses.replace(setup, control_port=ELSEWHERE)
        case "tls-refused":
            return dataclasses.replace(setup, certificate=None, tls="none")
        case "certificate-of-other-name" | "certificate-out-of-date":
            other = folder / "other"
            other.mkdir(exist_ok=True)
            _, served = write_self_signed(other, "skerry.saltmarsh.example")
            return dataclasses.replace(setup, certificate=served)
        case _:
            return dataclasses.replace(setup, guests=tuple(_guest(each, kind, rung, users) for each in setup.guests))


def case_of(site: Site, faults: tuple[Fault, ...], chance: random.Random) -> Case:
    """A site with faults, and what `diagnose` makes of what is seen of it."""
    broken = broken_site(site, faults, chance)
    seen = observations_of_rehearsal(rehearse_result(in_lab(broken, faults), "kernel"), broken)
    found = diagnose(site, seen, shipped_knowledge())
    shown = any(each.fails for each in seen)
    at = _group_of(found, faults)
    size = len(found.groups[at].causes) if at is not None else 0
    report = "" if at == 0 or not shown else _report(found, faults, seen)
    case = Case("+".join(each.kind for each in faults), shown, at, size, len(found.groups), report)
    policies = order_of_tests(settled(site), found) if found.groups else None
    return case if policies is None else case._replace(tests=policies[0], cost=policies[1], best=policies[2])


def order_of_tests(site: Site, found: Diagnosis) -> tuple[float, float, float] | None:
    """How many tests are expected until nothing parts the causes, advised one after the other, what they cost, and
    what the best order costs, found by trying every one; None where there are too many causes for that."""
    causes = [each for group in found.groups for each in group.causes]
    if not 1 < len(causes) <= MOST_CAUSES:
        return None
    costs = shipped_knowledge().costs
    predictions = Predictions(site)
    done = [each.tried for each in found.observations]
    tests = [(costs[each.kind], spreads) for each, spreads in spreads_of(predictions, causes, done)]
    start = tuple(each.probability for each in causes)
    advised, count = _advised(tests, start)
    return count, advised, _best(tests, start, {})


Weights = tuple[float, ...]
Tests = Sequence[tuple[float, Sequence[Spread]]]


def _after(spreads: Sequence[Spread], weights: Weights) -> Iterator[tuple[float, Weights]]:
    """Each outcome of a test with its chance, and the weights of the causes then."""
    whole = sum(weights)
    for key in dict.fromkeys(key for each, weight in zip(spreads, weights, strict=True) if weight for key in each):
        left = tuple(weight * each.get(key, 0.0) for each, weight in zip(spreads, weights, strict=True))
        if sum(left) > 0:
            yield sum(left) / whole, tuple(round(each / sum(left), 9) for each in left)


def _parting(tests: Tests, weights: Weights) -> list[tuple[float, float, Sequence[Spread]]]:
    """The tests that tell anything of these causes, each with what it tells and what it costs."""
    told = [(information(list(zip(weights, spreads, strict=True))), cost, spreads) for cost, spreads in tests]
    return [each for each in told if each[0] >= LEAST_BITS]


def _advised(tests: Tests, weights: Weights, depth: int = 0) -> tuple[float, float]:
    """What the advised tests are expected to cost, and how many they are."""
    parting = _parting(tests, weights)
    if not parting or depth == MOST_TESTS:
        return 0.0, 0.0
    _, cost, spreads = max(parting, key=lambda each: each[0] / each[1])
    after = [(chance, *_advised(tests, left, depth + 1)) for chance, left in _after(spreads, weights)]
    return cost + sum(chance * more for chance, more, _ in after), 1 + sum(chance * n for chance, _, n in after)


def _best(tests: Tests, weights: Weights, known: dict[Weights, float], depth: int = 0) -> float:
    """What the best order of tests is expected to cost."""
    if weights not in known:
        parting = _parting(tests, weights)
        ways = (
            cost + sum(chance * _best(tests, left, known, depth + 1) for chance, left in _after(spreads, weights))
            for _, cost, spreads in parting
        )
        known[weights] = min(ways, default=0.0) if depth < MOST_TESTS else 0.0
    return known[weights]


def _group_of(found: Diagnosis, faults: tuple[Fault, ...]) -> int | None:
    """The first group that has the true cause; of a pair, what explains all of it may be one of the two."""
    true = {(each.kind, each.place) for each in faults}
    for i, group in enumerate(found.groups):
        for cause in group.causes:
            named = {(each.kind, each.place) for each in cause.hypothesis.faults}
            if named and named <= true:
                return i
    return None


def _report(found: Diagnosis, faults: tuple[Fault, ...], seen: tuple[Observation, ...]) -> str:
    from eager_lantern.core.diagnosis.wording import came_of, whose

    lines = [f"true: {'; '.join(f'{each.kind} {each.place}: {each.message}' for each in faults)}"]
    lines += [f"  seen: {whose(each.tried)}: {came_of(each)}" for each in seen]
    causes = [each for group in found.groups[:2] for each in group.causes[:3]]
    lines += [f"  found: {each.message} ({each.probability:.2f})" for each in causes]
    return "\n".join(lines)


def _sites(chance: random.Random) -> Iterator[Site]:
    while True:
        site = parse_site("working", dumps(working_site(chance))).site
        if judge(site).verdict == "kept":
            yield site


def _may_show(site: Site, fault: Fault) -> bool:
    """Whether a session of any client may end otherwise with the fault than without, so that it is worth a lab."""
    known = Predictions(settled(site))
    tries = [Situation(each.client, each.service, None) for each in site.promises]
    return any(
        [end.shows for end in known.ends(way, each)] != [end.shows for end in known.ends((), each)]
        for each in tries
        for way in fault.variants
    )


def share(wanted: list[tuple[str, int]], seed: int, pairs: bool) -> list[Case]:
    """So many cases of each kind."""
    chance = random.Random(seed)
    sites = _sites(chance)
    cases: list[Case] = []
    for kind, count in wanted:
        done = 0
        for _ in range(MOST_TRIES):
            if done == count:
                break
            site = next(sites)
            every = tuple(map(shipped_knowledge().wording.worded, faults_of(settled(site))))
            fitting = [each for each in every if each.kind == kind and (kind in HARMLESS or _may_show(site, each))]
            if not fitting:
                continue
            faults: tuple[Fault, ...] = (chance.choice(fitting),)
            if pairs:
                others = [each for each in every if each.kind not in UNINJECTED and each.at != faults[0].at]
                faults = (*faults, chance.choice(others))
            case = case_of(site, faults, chance)
            if case.shown or not pairs:
                cases.append(case)
                done += 1
    return cases


def main(each: int, seed: int, processes: int, pairs: bool) -> int:
    began = time.perf_counter()
    kinds = [kind for kind in shipped_knowledge().weights if kind not in UNINJECTED]
    random.Random(seed).shuffle(kinds)
    parts = [[(kind, each) for kind in kinds[i::processes]] for i in range(processes)]
    cases: list[Case] = []
    with ProcessPoolExecutor(processes) as pool:
        for found in pool.map(share, parts, range(seed, seed + processes), [pairs] * processes):
            cases += found
    code = _told(cases, seed, time.perf_counter() - began, pairs)
    if not pairs:
        logs_with_lines_missing(seed, LOG_TIMES)
    return code


def _told(cases: list[Case], seed: int, seconds: float, pairs: bool) -> int:
    shown = [each for each in cases if each.shown]
    within = 3 if pairs else 1
    good = [each for each in shown if each.group is not None and each.group < within]
    print(f"{len(cases)} faults in the kernel lab, seed {seed}, {seconds:.0f} s; {len(shown)} showed in a session")
    print(f"the true cause is in the first {'three groups' if pairs else 'group'} of {len(good)} of {len(shown)}")
    if good:
        print(f"mean size of that group: {sum(each.size for each in good) / len(good):.1f} causes")
    hidden = Counter(each.kind for each in cases if not each.shown)
    print(f"not seen by any client: {dict(hidden)}")
    fewest = min(Counter(each.kind for each in cases).items(), key=lambda each: each[1], default=("", 0))
    print(f"{len({each.kind for each in cases})} kinds, the fewest {fewest[0]}, {fewest[1]} times")
    asked = [each for each in shown if each.best]
    cost, best = sum(each.cost for each in asked), sum(each.best for each in asked)
    if asked:
        count = sum(each.tests for each in asked) / len(asked)
        print(f"until nothing parts the causes: {count:.2f} tests on average, cost {cost / len(asked):.2f}")
        less = 100 * (1 - best / cost)
        print(f"the best order costs {best / len(asked):.2f}, {less:.1f} % less (over {len(asked)} cases)")
    missed: list[Case] = [each for each in shown if each not in good]
    for each in missed:
        print(f"missed {each.kind}: group {each.group} of {each.groups}\n{each.report}")
    return int(not pairs and (bool(missed) or cost > 1.1 * best))


def logs_with_lines_missing(seed: int, times: int) -> None:
    """The session logs of the tests, so often each with every fifth line missing by chance."""
    chance = random.Random(seed)
    cases = yaml.safe_load((LOGS / "logs.yaml").read_text())
    good, kept, nothing = 0, 0, 0
    for case in cases:
        data = yaml.safe_load(AFTER.read_text())
        site = parse_site(
            "logged", dumps(with_set({"base": "x", "set": case.get("set", {})}, {"bases": {"x": data}}))
        ).site
        lines = (LOGS / "logs" / case["log"]).read_text().splitlines()
        for _ in range(times):
            left = [each for each in lines if chance.random() > 1 / 5]
            with tempfile.NamedTemporaryFile("w", suffix=".log") as file:
                file.write("\n".join(left))
                file.flush()
                try:
                    seen = read_session_logs(Path(file.name), site, case["client"])
                except BadInput:
                    continue
            found = diagnose(site, seen, shipped_knowledge())
            if found.as_described or found.inconclusive:
                nothing += 1
                continue
            kept += 1
            causes = [
                fault.kind for group in found.groups[:1] for each in group.causes for fault in each.hypothesis.faults
            ]
            good += case["cause"] in causes
    print(f"logs with a fifth of their lines missing: the true cause is in the first group of {good} of {kept}")
    print(f"{nothing} more show nothing that failed any more")


if __name__ == "__main__":
    numbers = [int(each) for each in sys.argv[1:] if each.isdigit()]
    count, start, workers = (*numbers, *(2, 61, 4)[len(numbers) :])
    sys.exit(main(count, start, workers, "pairs" in sys.argv))
