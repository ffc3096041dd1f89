"""The rule set of a host as the kernel's packet filter lists it (``nft -j list ruleset``), as rules of a site."""

from collections.abc import Iterator, Sequence
from typing import Any, Literal

import msgspec
from msgspec.structs import replace

from ...core.adoption.told import Left, Reading, Told
from ...core.model.site import Rule
from ...core.values.addresses import AddressSet
from ...core.values.ports import EVERY_PORT
from ..guarded import guarded
from ..problem import BadInput, InputProblem
from .box import EVERYBODY, EVERYTHING, IPV4, IPV6, TRANSPORTS, common, without
from .helpers import ftp_helper
from .walk import Decided, Ruleset

Way = Literal["in", "out"]
HOOKS: dict[Way, tuple[str, str]] = {"in": ("prerouting", "input"), "out": ("output", "postrouting")}
"""What a packet meets on its way into a host, and out of it."""
_INTERFACES: dict[Way, str] = {"in": "iifname", "out": "oifname"}


def is_ruleset(text: str) -> bool:
    """Whether a text looks like what the kernel's own command prints."""
    return text.lstrip().startswith("{") and '"nftables"' in text[:200]


@guarded
def read_ruleset(file: str, text: str, direction: Way, interface: str = "") -> tuple[Reading, ...]:
    """The rules of a host for what comes in, or goes out, and which control connections its FTP helper reads, if any;
    ``interface`` is the one that it stands on its network with, where that is known. Raises BadInput."""
    try:
        items = msgspec.json.decode(text)["nftables"]
        return read_items(file, items, direction, interface)
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        raise BadInput(
            file, InputProblem(0, f"is no rule set as nft -j list ruleset prints it: {error!r:.80}")
        ) from None


def read_items(file: str, items: Sequence[dict[str, Any]], direction: Way, interface: str = "") -> tuple[Reading, ...]:
    """The same of a list of chains, rules and sets."""
    # whatever comes in is for the host itself, whatever goes out is for somebody else
    own = EVERYBODY if direction == "in" else AddressSet()
    ruleset = Ruleset(items, {_INTERFACES[direction]: interface} if interface else {}, own=own)
    chains = [chain for hook in HOOKS[direction] for chain in ruleset.base_chains(hook)]
    if not chains:
        hooks = " or ".join(HOOKS[direction])
        raise BadInput(file, InputProblem(0, f"has no filter for what goes {direction} (no base chain of {hooks})"))
    flat, default = ruleset.laid_flat(chains)
    flat = [*(each for hook in HOOKS[direction] for each in _rewritten(ruleset, hook)), *flat]
    if ruleset.troubles:
        raise BadInput(file, *(InputProblem(0, each) for each in dict.fromkeys(ruleset.troubles)))
    told = tuple(Told(("rules",), as_rule(each), 0) for each in flat)
    helper, left = ftp_helper(items)
    rules = Reading(file, "rules", told, (*left, *left_of(ruleset)), default, of_ruleset=True)
    switches = tuple(Told((key,), value, 0) for key, value in helper.items() if key != "helper_sees")
    return (rules, Reading(file, "switches", switches)) if switches else (rules,)


def _rewritten(ruleset: Ruleset, hook: str) -> Iterator[Decided]:
    """What a host rewrites of its own connections, which has no words in a site: it is unknown where that leads."""
    left = [EVERYTHING]
    for chain in ruleset.base_chains(hook, "nat"):
        for each in list(ruleset.walk(chain, left, left, 0)):
            mine = common(left, [each.box])
            if each.doubt is not None:
                ruleset.doubts[each.doubt] |= bool(mine)
            yield from (replace(each, box=part, likely=None) for part in mine if each.action != "allow")
            left = without(left, each.box) if each.settles else left


def left_of(*rulesets: Ruleset) -> tuple[Left, ...]:
    """What a site cannot say of some rule sets: each rule once, and sets that change by themselves."""
    doubts: dict[tuple[int, str, str], bool] = {}
    for each in rulesets:
        for doubt, unknown in each.doubts.items():
            key = (doubt.line, doubt.where, doubt.what)
            doubts[key] = doubts.get(key, False) or unknown
    found = [
        Left(
            line,
            where,
            f"a site cannot say “{what}”: "
            + ("what it may match is unknown" if unknown else "nothing hangs on it, what follows does the same"),
        )
        for (line, where, what), unknown in doubts.items()
    ]
    filled = dict.fromkeys(name for each in rulesets for name in each.filled)
    return (*found, *(Left(0, each, "changes by itself: taken as it was when it was listed") for each in filled))


def as_rule(verdict: Decided) -> Rule:
    """The rule of a site that says the same."""
    box = verdict.box
    both = box.protocols == TRANSPORTS
    of_one_family = box.targets in (IPV4, IPV6) and box.sources <= box.targets
    return Rule(
        action=verdict.action,
        name=verdict.name,
        protocol="any" if both else "tcp" if "tcp" in box.protocols else "udp",
        ports=box.ports,
        from_=None if box.sources == EVERYBODY else box.sources,
        to=None if box.targets == EVERYBODY or of_one_family else box.targets,
        from_ports=None if box.from_ports == EVERY_PORT else box.from_ports,
        refuses_with=verdict.refuses_with,
    )
