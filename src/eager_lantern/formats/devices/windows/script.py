"""The filter of a Windows server as a PowerShell script (public interface): it states what it does, can be run twice,
lists what it made and takes back exactly that.

It adds rules in a group of its own and changes no default, no profile and no other rule, so the way in by Remote
Desktop stays as it is. Rules there have no order, so each is written for what is left of it below the rules above. It
is made of plain commands with quoted values alone.
"""

from collections.abc import Iterator, Mapping

from ....core.model.site import Filter, Server, Site
from ....core.sheets.sheet import distinct, slug, untold_parts
from ....core.values.ports import PortSet
from ....wire.terminal_safe import printable
from ..format import WrittenFile
from ..unordered import Unordered, addresses_text, spans_text, unordered

ENDING = "ps1"
PROFILES = ("Domain", "Private", "Public")
_REMOTE_DESKTOP = PortSet.single(3389)
_SCRIPT = """\
# {device} of {site}: rules of the Windows filter, from the site file.
# Run it in a PowerShell window that was opened as administrator:
#   .\\{file}             makes the rules, and those of an earlier run are replaced
#   .\\{file} -List       shows them
#   .\\{file} -TakeBack   removes them, and nothing else
# It adds rules in a group of its own. It changes no default and no other rule: Remote Desktop stays as it is.
# If scripts are not allowed here: powershell -ExecutionPolicy Bypass -File .\\{file}
param([switch]$List, [switch]$TakeBack)
$ErrorActionPreference = 'Stop'
$group = {group}
if (-not $List) {{ Get-NetFirewallRule -Group $group -ErrorAction SilentlyContinue | Remove-NetFirewallRule }}
if (-not $List -and -not $TakeBack) {{
{rules}
}}
$made = Get-NetFirewallRule -Group $group -ErrorAction SilentlyContinue
$made | Format-Table DisplayName, Profile, Direction, Action
"""


def write_scripts(site: Site, listening: Mapping[str, PortSet]) -> tuple[WrittenFile, ...]:
    """The script of a server on Windows; none where its file states that something is not known."""
    server = site.server
    if server.system != "windows" or untold_parts(server):
        return ()
    (name,) = distinct([slug(server.name)])
    file = f"{name}.{ENDING}"
    rules = "\n".join(_lines(server, listening))
    text = _SCRIPT.format(
        device=_plain(server.name), site=_plain(site.site), file=file,
        group=_quoted(f"Eager Lantern: {server.name}"), rules=rules or "  # nothing to let in",
    )  # fmt: skip
    return (WrittenFile(file, server.name, text),)


def _lines(server: Server, listening: Mapping[str, PortSet]) -> Iterator[str]:
    number = 0
    for direction, table in (("Inbound", server.filter.incoming), ("Outbound", server.filter.outgoing)):
        if (table.default == "allow") is (direction == "Inbound"):
            usual = "denies" if direction == "Inbound" else "allows"
            yield f"  # {direction}: the file states another default than Windows, which {usual}: change it by hand."
        for each, profiles in _parts(table, listening):
            for protocol in sorted(each.box.protocols):
                number += 1
                yield f"  {_command(number, direction, each, protocol, profiles)}"


def _parts(table: Filter, listening: Mapping[str, PortSet]) -> Iterator[tuple[Unordered, tuple[str, ...]]]:
    """What is left of each rule, with the profiles in which it is that."""
    names = {name for rule in table.rules for name in rule.categories or ()}
    spelt = {each: next((name for name in names if name.lower() == each.lower()), each) for each in PROFILES}
    found: dict[Unordered, list[str]] = {}
    for profile in PROFILES:
        for each in unordered(table, spelt[profile], listening):
            found.setdefault(each, []).append(profile)
    for each, profiles in sorted(found.items(), key=lambda pair: pair[0].line):
        yield each, tuple(profiles)


def _command(number: int, direction: str, part: Unordered, protocol: str, profiles: tuple[str, ...]) -> str:
    inbound, box = direction == "Inbound", part.box
    local, remote = (box.ports, box.from_ports) if inbound else (box.from_ports, box.ports)
    here, there = (box.targets, box.sources) if inbound else (box.sources, box.targets)
    if part.action == "deny" and inbound:
        local = local - _REMOTE_DESKTOP
    words = {
        "Group": "$group",
        "Name": _quoted(f"eager-lantern-{number:03}"),
        "DisplayName": _quoted(f"Eager Lantern {number:03} {part.name}".strip()),
        "Direction": direction,
        "Action": "Allow" if part.action == "allow" else "Block",
        "Protocol": protocol.upper(),
        "LocalPort": _listed(spans_text(local, "-")),
        "RemotePort": _listed(spans_text(remote, "-")),
        "LocalAddress": _listed(addresses_text(here)),
        "RemoteAddress": _listed(addresses_text(there)),
        "Profile": "Any" if profiles == PROFILES else ", ".join(profiles),
    }
    return "New-NetFirewallRule " + " ".join(f"-{key} {value}" for key, value in words.items()) + " | Out-Null"


def _listed(values: tuple[str, ...]) -> str:
    return "@(" + ", ".join(map(_quoted, values)) + ")" if values else "Any"


def _quoted(text: str) -> str:
    """In single quotes, between which nothing is expanded but a quote that is doubled."""
    return "'" + _plain(text).replace("'", "''") + "'"


def _plain(text: str) -> str:
    """In ASCII alone: older versions read a script in the system's code page, in which other bytes may be quotes."""
    return printable(text, 120).encode("ascii", "replace").decode()
