"""A page to work from, as a value: what to enter, how to see that it took, how to test it."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

from msgspec import Struct

from ..model.site import Filter, Gateway, GatewayFilter, Refusal, Rule, Server, Service
from ..model.unfilled import open_places
from ..network.filters import counts
from ..network.topology import listens_on
from ..values.phrases import ports_phrase, the

Purpose = Literal["enter", "read"]
_SAYS: dict[Refusal, str] = {
    "port-unreachable": "port unreachable",
    "host-unreachable": "host unreachable",
    "prohibited": "administratively prohibited",
}
UNTOLD = "leave as it is: what it does is not known"
_DOES = {
    "allow": "allow",
    "deny": "drop, no answer",
    "refuse": "refuse, with an answer",
    "unknown": UNTOLD,
}


class Grid(Struct, frozen=True):
    """A table: the heads of its columns, and rows of as many cells. ``purpose`` states whether its rows
    are entered somewhere, one after the other, or only read; ``stay`` are the indexes of rows that nobody enters."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    purpose: Purpose = "enter"
    stay: tuple[int, ...] = ()


class SheetPart(Struct, frozen=True):
    """A part of a page: lines to read, then a table, then steps in order, then commands to type."""

    title: str
    lines: tuple[str, ...] = ()
    grid: Grid | None = None
    steps: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()


class Sheet(Struct, frozen=True):
    """One page."""

    name: str
    kind: str
    about: str
    parts: tuple[SheetPart, ...]


def slug(text: str) -> str:
    """A name as part of a file name."""
    return "-".join("".join(each if each.isalnum() else " " for each in text.lower()).split()) or "page"


def loader_of(rule_file: str) -> str:
    """The script that loads a rule file with a way back."""
    return f"{rule_file.removesuffix('.nft')}.load.sh"


def loading_steps(rule_file: str, where: str) -> tuple[str, ...]:
    """How a rule file is loaded so that a lock-out heals itself."""
    script = loader_of(rule_file)
    return (
        f"Copy {rule_file} and {script} to {where}, and check the rules: nothing is changed by that.",
        "Load them for five minutes. Unless you confirm, the rules from before return by themselves.",
        "Log in a second time. If you get in, confirm there (keep); if not, wait, and correct the site file.",
        f"To keep them over restarts, include {rule_file} from /etc/nftables.conf.",
    )


def loading_commands(rule_file: str) -> tuple[str, ...]:
    """The commands of :func:`loading_steps`, and the one that takes all back."""
    script = loader_of(rule_file)
    return f"nft -c -f {rule_file}", f"sh {script} try 5", f"sh {script} keep", f"sh {script} back"


def distinct(names: Iterable[str]) -> list[str]:
    """The names in their order, with a number put into one that stands there before, so that no file and no table
    takes another's place."""
    found: list[str] = []
    for name in names:
        stem, dot, ending = name.rpartition(".")
        made, number = name, 2
        while made.lower() in {each.lower() for each in found}:
            made = f"{stem}-{number}{dot}{ending}" if dot else f"{name}-{number}"
            number += 1
        found.append(made)
    return found


def filter_part(title: str, table: Filter, category: str | None, services: Sequence[Service]) -> SheetPart:
    """The rules of a filter in their order, and its last word."""
    rows = [_row(str(i), rule, category, services) for i, rule in enumerate(table.rules, start=1)]
    rest = (
        "last",
        _does(table.default, table.refuses_with),
        "any",
        "all others",
        "anywhere",
        "anywhere",
        "the default, after all rules",
    )
    heads = ("no.", "do", "protocol", "ports", "from", "to", "name and remarks")
    lines = ("The order counts: the first rule that matches decides.",) if len(table.rules) > 1 else ()
    return SheetPart(title, lines, Grid(heads, (*rows, rest)))


def _row(number: str, rule: Rule, category: str | None, services: Sequence[Service]) -> tuple[str, ...]:
    ports = str(rule.ports) if str(rule.ports) != "1-65535" else "all"
    for each in services:
        if each.name == rule.program:
            ports = str(listens_on(each))
    came = f" coming from port {rule.from_ports}" if rule.from_ports is not None else ""
    return (
        number,
        _does(rule.action, rule.refuses_with),
        rule.protocol.upper() if rule.protocol != "any" else "any",
        ports,
        f"{rule.from_ or 'anywhere'}{came}",
        str(rule.to or "anywhere"),
        "; ".join(filter(None, _remarks(rule, category))),
    )


def _remarks(rule: Rule, category: str | None) -> Iterator[str]:
    yield rule.name
    if rule.program:
        yield f"the program of {rule.program}"
    if rule.categories is not None:
        yield f"only on networks of category {', '.join(rule.categories)}"
    if not rule.enabled:
        yield "switched off"
    elif not counts(rule, category):
        yield f"without effect: the host's network is of category {category or 'none'}"


def untold_parts(device: Server | Gateway) -> tuple[str, ...]:
    """What of a device the site marks as unknown, each in a few words."""
    whole = device.filter
    tables = (whole.inward, whole.outward) if isinstance(whole, GatewayFilter) else (whole.incoming, whole.outgoing)
    rules = (rule for table in tables for rule in table.rules if rule.enabled and rule.action == "unknown")
    found = [f"what {the('rule', each.name)} does with {ports_phrase(each.ports)}" for each in rules]
    if isinstance(device, Gateway) and device.unknown_ports.ports:
        found.append(f"where it leads {ports_phrase(device.unknown_ports.ports)}")
    if isinstance(device, Gateway) and device.hairpin and device.hairpin_source == "unknown":
        found.append("how clients inside that use its outside address are turned back")
    senders = [place for place in open_places(device) if place[-1] == "from"]
    if senders:
        found.append(
            f"whom {'an entry lets' if len(senders) == 1 else f'{len(senders)} entries let'} in (? in the file)"
        )
    if any(place[-1] != "from" for place in open_places(device)):
        found.append("its outside address (? in the file)")
    return tuple(found)


def _does(action: str, refuses_with: Refusal | None) -> str:
    if action != "refuse" or refuses_with is None:
        return _DOES[action]
    return "refuse, with a reset" if refuses_with == "reset" else f"refuse, with ICMP “{_SAYS[refuses_with]}”"
