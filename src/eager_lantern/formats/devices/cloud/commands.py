"""The filter of a cloud as commands for the provider's command line (public interface): what the scripts for all three
have in common.

Each script enters the rules, lists them, and takes back exactly those. It can be run twice: a rule that is there stays,
and one of an earlier run that the file has no longer goes. It knows its own by a mark, made of the device's name and of
what the rule states or where it stands. It changes no other rule, and no default.
"""

from collections.abc import Callable, Iterator, Sequence
from hashlib import sha256

from msgspec import Struct
from msgspec.structs import replace

from ....core.model.site import Filter, Gateway, Rule, Site
from ....core.sheets.sheet import distinct, slug, untold_parts
from ....core.values.addresses import FAMILIES, AddressSet
from ....core.values.ports import PortSet
from ....wire.terminal_safe import printable
from ..format import WrittenFile
from ..unordered import Unordered, unordered

MOST_NAME, MOST_DESCRIPTION = 40, 80
"""Letters of a device's name in a mark, and of a rule's name in its description, as the shortest limits ask for."""
_HEAD = """\
#!/bin/sh
# {device} of {site}: {what}, from the site file.
# Run it where the provider's command line is logged in, as in its own shell in the browser:
#   {given} sh {file}             enters what is missing, and removes what it made earlier and the file has no longer
#   {given} sh {file} list        shows the rules that it made
#   {given} sh {file} take-back   removes these rules, and nothing else
{remarks}set -eu
made={mark}
mode=${{1:-enter}}
wanted=
"""


class Script(Struct, frozen=True):
    """A script of one provider: the ``ending`` of its name, ``what`` it enters, the variables that it is ``given``, and
    the shell before and after its commands."""

    ending: str
    what: str
    given: str
    begin: str
    end: str


def for_each_cloud(
    script: Script, commands: Callable[[Site, Gateway], Iterator[str]]
) -> Callable[[Site], tuple[WrittenFile, ...]]:
    """The writer of a script for the filter of each cloud of a site; a line of ``commands`` that begins with ``#`` is a
    remark. There is none for a device of which something is not known, nor for one with forwards, which no filter
    has."""

    def write(site: Site) -> tuple[WrittenFile, ...]:
        clouds = [each for each in site.gateways if each.system == "cloud"]
        both = zip(clouds, distinct(map(_stem, clouds)), strict=True)
        whole = ((each, stem) for each, stem in both if not untold_parts(each) and not each.forwards)
        return tuple(_file(site, each, stem, script, list(commands(site, each))) for each, stem in whole)

    return write


def _stem(gateway: Gateway) -> str:
    return slug("".join(each if each.isascii() else " " for each in gateway.name))[:MOST_NAME]


def _file(site: Site, gateway: Gateway, stem: str, script: Script, lines: Sequence[str]) -> WrittenFile:
    file = f"{stem}.{script.ending}"
    head = _HEAD.format(
        device=plain(gateway.name), site=plain(site.site), what=script.what, given=script.given, file=file,
        remarks="".join(f"{each}\n" for each in lines if each.startswith("#")), mark=f"eager-lantern-{stem}",
    )  # fmt: skip
    body = "".join(f"{each}\n" for each in lines if not each.startswith("#"))
    return WrittenFile(file, gateway.name, head + script.begin + body + script.end)


def permissions(table: Filter) -> list[Unordered]:
    """All that a filter lets pass, as permissions of which no order counts."""
    rules = (*table.rules, Rule(action="allow")) if table.default == "allow" else table.rules
    return unordered(replace(table, default="deny", rules=rules), None, {})


def of_each_family(sources: AddressSet, targets: AddressSet) -> Iterator[tuple[AddressSet, AddressSet]]:
    """Senders and those whom they reach, of one family each: no provider takes both in one rule."""
    for family in FAMILIES:
        mine, theirs = sources.of_family(family), targets.of_family(family)
        if mine and theirs:
            yield mine, theirs


def spans(ports: PortSet) -> Iterator[str]:
    """Ports and ranges, one each; every port as the range of all of them."""
    return (str(low) if low == high else f"{low}-{high}" for low, high in ports.spans)


def mark_of(*parts: str) -> str:
    """Eight hexadecimal digits, the same for the same rule alone."""
    return sha256("\n".join(parts).encode()).hexdigest()[:8]


def plain(text: str) -> str:
    """In ASCII on one line, of the characters that descriptions may have at every provider, so that a shell and JSON
    have nothing to quote in it either."""
    shown = printable(text, MOST_DESCRIPTION)
    return "".join(each if each.isascii() and (each.isalnum() or each in " ._-:/") else "_" for each in shown)
