"""One rule changed, both sets adopted, and what `compare` lists held against what the kernel does otherwise.

Usage: edits.py [COUNT] [SEED] [FOLDER]. FOLDER has rule sets of real programs, each in a folder of its own with
``v4.rules`` or ``ruleset.nft`` and ``meta.json`` (``shape``: H a host, G a gateway); without it five programs are run
with random options. One rule of a set is taken out, put first, turned from allow to drop or back, or gets another port.
The kernel loads both, and the same connections are sent through both. What arrives in one alone has to be listed, and
nothing else; where either is unknown `compare` has to list that. The exit code tells whether it ever was otherwise.
"""

import json
import random
import re
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from front_ends import (
    FAR,
    GATEWAY,
    HOST,
    NEAR,
    NFT,
    PORTS,
    PROGRAMS,
    PUBLIC,
    RESTORE,
    STORE,
    Shape,
    made,
    missing,
    nodes_of,
    reading,
    restored,
    saved,
)

from eager_lantern.core.changes.states import Comparison, compare
from eager_lantern.core.model.site import Site
from eager_lantern.core.predict.access import Reached
from eager_lantern.core.values.addresses import Address
from eager_lantern.formats.reading import BadInput
from eager_lantern.lab.kernel.lab import KernelLab, exchanged
from eager_lantern.lab.tasks.probes import Probe, ProbeSeen

MOST_PORTS = 14
_RULE = re.compile(r"^-A |^\s+(?!type |policy |flags |elements ).*\b(accept|drop|reject|return|dnat|jump)\b")


class RuleSet(NamedTuple):
    """A name, the shape, and the listing by the name of its form."""

    name: str
    shape: Shape
    texts: dict[str, str]


def of_folder(folder: Path) -> Iterator[RuleSet]:
    """The sets of hosts and of gateways for IPv4."""
    for each in sorted(folder.iterdir()):
        meta = json.loads((each / "meta.json").read_text()) if (each / "meta.json").exists() else {}
        shape = {"H": HOST, "G": GATEWAY}.get(meta.get("shape", ""))
        name = next((name for name in ("v4.rules", "ruleset.nft") if (each / name).exists()), None)
        if shape is not None and name is not None and not (each / "ipset.rules").exists():
            yield RuleSet(each.name, shape, {name: (each / name).read_text()})


def of_programs(chance: random.Random) -> RuleSet:
    """What some program makes of random options."""
    program = chance.choice([each for each in PROGRAMS if not missing(each)])
    shape = chance.choice([HOST, GATEWAY])
    with tempfile.TemporaryDirectory() as name:
        made(program, chance, shape, Path(name))
        texts = saved(Path(name))
    name = next(each for each in ("v4.rules", "ruleset.nft") if each in texts)
    return RuleSet(f"{program}-{shape.name}", shape, {name: texts[name]})


def edited(text: str, chance: random.Random) -> tuple[str, str]:
    """The text with one rule changed, and what that was."""
    lines = text.splitlines()
    rules = [i for i, line in enumerate(lines) if _RULE.search(line)]
    of_ports = [i for i in rules if "dport" in lines[i]]
    i = chance.choice(of_ports if of_ports and chance.random() < 0.7 else rules)
    kind = chance.choice(["gone", "first", "turned", "port", "port"])
    if kind == "gone":
        return "\n".join([*lines[:i], *lines[i + 1 :], ""]), f"gone: {lines[i].strip()}"
    if kind == "first":
        first = next(j for j in rules if _chain(lines, j) == _chain(lines, i))
        return "\n".join([*lines[:first], lines[i], *lines[first:], ""]), f"first: {lines[i].strip()}"
    if kind == "turned":
        words = {"ACCEPT": "DROP", "DROP": "ACCEPT", "accept": "drop", "drop": "accept"}
        new = re.sub(r"\b(ACCEPT|DROP|accept|drop)\s*$", lambda found: words[found[1]], lines[i])
    else:
        new = re.sub(r"(dports? |dport )(\d+)", lambda found: f"{found[1]}{int(found[2]) + 1}", lines[i], count=1)
    return "\n".join([*lines[:i], new, *lines[i + 1 :], ""]), f"{kind}: {lines[i].strip()}"


def _chain(lines: Sequence[str], index: int) -> str:
    if lines[index].startswith("-A "):
        table = next(line for line in reversed(lines[:index]) if line.startswith("*"))
        return f"{table} {lines[index].split()[1]}"
    return next(f"{i}" for i in range(index, -1, -1) if "chain " in lines[i])


def probes_of(shape: Shape, texts: tuple[str, str], chance: random.Random) -> list[Probe]:
    """Connections to the ports that the first of two texts names, and to some of the other."""
    first, rest = ({int(each) for each in re.findall(r"(?<![\d.])\d{1,5}(?![\d.])", text)} for text in texts)
    near = {beside for each in first for beside in (each, each + 1) if 0 < beside < 65536}
    others = sorted(each for each in {*PORTS, *rest} - near if 0 < each < 65536)
    ports = [*sorted(near)[:MOST_PORTS], *chance.sample(others, min(MOST_PORTS, len(others)))]
    ways = [(f"desk-{i}", each, STORE) for i, each in enumerate(NEAR)]
    if shape.gateway:
        ways = [*((f"abroad-{i}", each, PUBLIC) for i, each in enumerate(FAR)), ("desk", NEAR[0], FAR[0])]
    numbers = iter(range(20_000, 30_000))
    return [Probe(name, transport, own, next(numbers), to, port)
            for name, own, to in ways for transport in ("tcp", "udp") for port in ports]  # fmt: skip


def sent(site: Site, shape: Shape, texts: dict[str, str], probes: Sequence[Probe]) -> list[ProbeSeen]:
    """What becomes of them with these rules in the kernel."""
    with KernelLab(nodes_of(shape)(site, ())) as lab:
        restored(lab, shape, texts)
        return exchanged(lab, list(probes), sorted({each.port for each in probes} | set(PORTS)))


def wrong(found: Comparison, probe: Probe, before: ProbeSeen, after: ProbeSeen) -> str:
    """In what `compare` is wrong about a connection."""
    if _is_in((*found.unknown, *found.unsure), probe, before, after):
        return ""
    lists = {
        "gained": _is_in(found.gained, probe, after) or _is_by(found.doors_opened, probe),
        "lost": _is_in(found.lost, probe, before) or _is_by(found.doors_closed, probe),
    }
    is_so = {"gained": after.outcome == "ok" != before.outcome, "lost": before.outcome == "ok" != after.outcome}
    return "; ".join(f"{key} is {so}, listed {lists[key]}" for key, so in is_so.items() if so != lists[key])


def _is_in(several: Sequence[Reached], probe: Probe, *seen: ProbeSeen) -> bool:
    """Whether a connection is among what is listed, for the host and port that it arrived at where it did."""
    ends = {(each.at, each.port) for each in seen if each.outcome == "ok"} or {("", probe.port)}
    source = Address.parse(probe.source).number
    near = [each for each in several if each.protocol == probe.protocol and source in each.sources]
    return any(at in ("", each.host) and port in each.ports for each in near for at, port in ends)


def _is_by(doors: Sequence[Reached], probe: Probe) -> bool:
    """Whether a connection goes by one of these outside ports."""
    source = Address.parse(probe.source).number
    asked = [each for each in doors if (each.host, each.protocol) == (probe.to, probe.protocol)]
    return any(source in each.sources and probe.port in each.ports for each in asked)


def one(given: RuleSet, chance: random.Random) -> tuple[str, Counter[str], list[str]]:
    """One edit of a set: what it was, how connections compare, and what is wrong."""
    ((name, text),) = given.texts.items()
    for _ in range(20):
        new, what = edited(text, chance)
        if new == text:
            continue
        both = [{name: each} for each in (text, new)]
        try:
            listed = [relisted(name, each[name]) for each in both]
        except subprocess.CalledProcessError:
            continue  # no rule that the kernel takes
        break
    else:
        return "no edit that the kernel takes", Counter(), []
    try:
        before, after = (reading(given.shape, {name: each}) for each in listed)
    except BadInput:
        return "refused", Counter({"refused": 1}), []  # it is for a device with other addresses than this one
    found = compare(before, after)
    probes = probes_of(given.shape, (what, new), chance)
    seen = [sent(before, given.shape, each, probes) for each in both]
    count, bad = Counter[str](), list[str]()
    for probe, old, late in zip(probes, *seen, strict=True):
        differs = wrong(found, probe, old, late)
        unsure = _is_in((*found.unknown, *found.unsure), probe, old, late)
        changes = (old.outcome == "ok") != (late.outcome == "ok")
        count["unknown" if unsure else "changed" if changes else "same"] += 1
        bad += [f"{probe}: {differs}"] if differs else []
    return what, count, bad


def relisted(name: str, text: str) -> str:
    """The text as the kernel lists it again."""
    restore = " ".join((RESTORE | NFT)[name])
    lists = "iptables-save" if name == "v4.rules" else "nft list ruleset"
    command = ["unshare", "-n", "sh", "-ec", f"{restore} && {lists}"]
    return subprocess.run(command, input=text, capture_output=True, text=True, check=True, timeout=60).stdout


def main(count: int, seed: int, folder: str = "") -> int:
    total, wrongs = Counter[str](), 0
    sets = list(of_folder(Path(folder))) if folder else []
    for number in range(seed, seed + count):
        chance = random.Random(number)
        given = chance.choice(sets) if sets else of_programs(chance)
        what, found, bad = one(given, chance)
        total += found
        wrongs += len(bad)
        for each in bad[:3]:
            print(f"{number} {given.name}, {what[:120]}: {each}", flush=True)
    print(f"{count} edits of one rule: {dict(total)} connections, {wrongs} of which compare is wrong")
    return int(bool(wrongs))


if __name__ == "__main__":
    count_and_seed = [int(each) for each in sys.argv[1:3]]
    edits, first = (*count_and_seed, *(20, 61)[len(count_and_seed) :])
    sys.exit(main(edits, first, *sys.argv[3:4]))
