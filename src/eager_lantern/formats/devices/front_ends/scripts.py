"""The filter of a Linux server as commands for the front end that runs there (public interface of ufw and firewalld): a
shell script that enters them, lists them, and takes back exactly those.

A table of the kernel's own beside a front end opens nothing that the front end stops, so where one runs, the rules have
to be given to it. Rules keep their order. Neither script changes a default: that which the site's file counts on is
stated at its head.
"""

import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from ....core.model.site import Filter, Server, Site
from ....core.network.filters import Match, compiled
from ....core.sheets.sheet import distinct, slug, untold_parts
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ....wire.terminal_safe import printable
from ..format import WrittenFile
from ..unordered import addresses_text, spans_text

FIRST_ENDING, ZONES_ENDING = "ufw.sh", "firewalld.sh"
MOST_PORTS = 15
"""How many ports one rule takes, a range counting as two (iptables-extensions(8), multiport)."""
_HEAD = """\
#!/bin/sh
# {device} of {site}: commands for {front_end}, from the site file, where {front_end} runs the filter.
#   sh {file}             enters the rules
#   sh {file} list        shows what counts now
#   sh {file} take-back   removes these rules, and nothing else
# Keep a second session open until you have seen that a new one still comes in.
{default}
set -eu
mode=${{1:-enter}}
"""
_UFW = """\
each() {
  case $mode in
  enter) ufw "$@" ;;
  take-back) ufw delete "$@" ;;
  esac
}
"""
_UFW_END = "[ $mode != list ] || ufw status verbose\n"
_ZONES = """\
zone=${ZONE:-$(firewall-cmd --get-default-zone)}
both() { # now, and after every restart
  firewall-cmd --quiet --zone="$zone" "$1"
  firewall-cmd --quiet --permanent --zone="$zone" "$1"
}
each() {
  case $mode in
  enter) both --add-rich-rule="$1" ;;
  take-back) both --remove-rich-rule="$1" ;;
  esac
}
"""
_ZONES_END = '[ $mode != list ] || firewall-cmd --zone="$zone" --list-all\n'
_DEFAULTS = {"allow": "allow", "deny": "deny", "refuse": "reject"}


def write_ufw(site: Site, listening: Mapping[str, PortSet]) -> tuple[WrittenFile, ...]:
    """The commands of ufw for a Linux server; none where its file states that something is not known."""
    server = site.server
    if server.system != "linux" or untold_parts(server):
        return ()
    lines = [
        line
        for way, table in (("in", server.filter.incoming), ("out", server.filter.outgoing))
        for match in compiled(table, (), server.category, listening).matches
        for line in _ufw_lines(way, match)
    ]
    incoming, outgoing = (_DEFAULTS[each.default] for each in (server.filter.incoming, server.filter.outgoing))
    default = f"# The file counts on these defaults: ufw default {incoming} incoming; ufw default {outgoing} outgoing"
    return (_script(site, FIRST_ENDING, "ufw", default, _UFW, lines, _UFW_END),)


def write_firewalld(site: Site, listening: Mapping[str, PortSet]) -> tuple[WrittenFile, ...]:
    """The commands of firewalld for a Linux server; none where its file states that something is not known."""
    server = site.server
    if server.system != "linux" or untold_parts(server):
        return ()
    matches = compiled(server.filter.incoming, (), server.category, listening).matches
    first = -len(matches)
    lines = [line for i, match in enumerate(matches) for line in _zone_lines(first + i, match)]
    return (_script(site, ZONES_ENDING, "firewalld", _zone_default(server), _ZONES, lines, _ZONES_END),)


def _zone_default(server: Server) -> str:
    target = {"allow": "ACCEPT", "deny": "DROP", "refuse": "default"}[server.filter.incoming.default]
    text = f"# The file counts on this target of the zone: firewall-cmd --permanent --zone=ZONE --set-target={target}"
    filtered = server.filter.outgoing != Filter(default="allow")
    return text + ("\n# What goes out is not filtered by zones: the rules for it are not here." if filtered else "")


def _script(
    site: Site, ending: str, front_end: str, default: str, begin: str, lines: Sequence[str], end: str
) -> WrittenFile:
    (name,) = distinct([slug(site.server.name)])
    file = f"{name}.{ending}"
    head = _HEAD.format(
        device=printable(site.server.name, 120), site=printable(site.site, 120), front_end=front_end, file=file,
        default=default,
    )  # fmt: skip
    return WrittenFile(
        file,
        site.server.name,
        head + begin + "".join(line if line.startswith("#") else f"each {line}\n" for line in lines) + end,
    )


def _transports(match: Match) -> tuple[Literal["tcp", "udp"], ...]:
    return ("tcp", "udp") if match.protocol == "any" else (match.protocol,)


def _pairs(match: Match) -> Iterator[tuple[str, str]]:
    """Each sender with each address of the server, of one family; “any” for everybody."""
    for source in _addresses(match.sources):
        for target in _addresses(match.targets):
            if "any" in (source, target) or (":" in source) == (":" in target):
                yield source, target


def _addresses(addresses: AddressSet | None) -> tuple[str, ...]:
    return ("any",) if addresses is None else addresses_text(addresses) or ("any",)


def _ufw_lines(way: str, match: Match) -> Iterator[str]:
    action = _DEFAULTS[match.action]
    named = f" comment {shlex.quote(name)}" if (name := _comment(match.name)) else ""
    for protocol in _transports(match):
        for source, target in _pairs(match):
            for came in _portions(match.from_ports):
                for ports in _portions(match.ports):
                    begin = f"{action} {way} proto {protocol} from {source}{came} to {target}{ports}"
                    yield begin + named


def _portions(ports: PortSet | None) -> tuple[str, ...]:
    """Ports in portions of what one rule takes."""
    found: list[list[str]] = [[]]
    room = MOST_PORTS
    for each in () if ports is None else spans_text(ports, ":"):
        cost = 1 + (":" in each)
        if cost > room:
            found.append([])
            room = MOST_PORTS
        found[-1].append(each)
        room -= cost
    return tuple(f" port {','.join(part)}" if part else "" for part in found)


def _comment(name: str) -> str:
    """A name that the front end takes as a comment: it refuses quotes."""
    return "".join(each for each in printable(name, 60) if each.isalnum() or each in " ._-").strip()


def _zone_lines(priority: int, match: Match) -> Iterator[str]:
    verdict = {"allow": "accept", "deny": "drop", "refuse": "reject"}[match.action]
    if match.from_ports not in (None, EVERY_PORT) and match.ports != EVERY_PORT:
        yield f"# Rule {priority} is about ports of both sides, which no such rule can state: enter it by hand.\n"
        return
    for protocol in _transports(match):
        for source, target in _pairs(match):
            for element in _elements(match, protocol):
                family = "".join(f' family="ipv{6 if ":" in each else 4}"' for each in {source, target} - {"any"})[:14]
                sides = "".join(
                    f' {word} address="{each}"'
                    for word, each in (("source", source), ("destination", target))
                    if each != "any"
                )
                yield shlex.quote(f'rule priority="{priority}"{family}{sides} {element} {verdict}')


def _elements(match: Match, protocol: str) -> Iterator[str]:
    word, ports = ("port", match.ports)
    if match.from_ports not in (None, EVERY_PORT):
        word, ports = "source-port", match.from_ports
    spans = spans_text(ports, "-")
    if not spans:
        yield f'protocol value="{protocol}"'
    for each in spans:
        yield f'{word} port="{each}" protocol="{protocol}"'
