"""The packet filter rules of hosts and gateways as nftables reads them, for the lab and for real devices.

Pure text, so that it can be read and tested without privileges. Every key of the site file
that decides about connections has its counterpart here, for IPv4 and IPv6 alike; nothing is
computed ahead, so that the kernel decides by itself. The same text is built in the lab and
exported for real devices; what only a lab needs, because there is no
provider and no internet around it, is :func:`surroundings`.

Theory: marks and the order of chains
=====================================
The kernel asks chains by hook, and at one hook by priority: destinations are rewritten first (prerouting,
dstnat), then the packet is routed, then it is filtered (forward), then its source is rewritten
(postrouting, srcnat). So the filter sees the rewritten destination and the inside source.
What the filter can not see any more is *that* a forward has rewritten it: a device whose forwards pass its
filter, and one that turns connections back without asking it, have to be told. The rewriting rule leaves
a mark on the connection, which later chains read; only a connection's first packet is rewritten by rules,
the kernel does the rest of it alike, and the mark stays. A connection without a mark is filtered by the
way that it goes, in or out.

>>> from eager_lantern.core.model.site import Attachment, Forward
>>> outside = Attachment(network="internet", address=Addresses.parse("198.51.100.61"))
>>> inside = Attachment(network="office", address=Addresses.parse("10.61.4.1"))
>>> forward = Forward(ports=PortSet.parse("21"), to=Address.parse("10.61.4.20"))
>>> router = Gateway(name="router", outside=outside, inside=inside, translate="outward",
...     hairpin=True, forwards=(forward,))
>>> for line in gateway_rules(router, {}).splitlines():
...     if "mark" in line:
...         print(line.strip())
iifname $outside ip daddr { 198.51.100.61 } tcp dport { 21 } ct mark set 1 dnat ip to 10.61.4.20
iifname $inside ip daddr { 198.51.100.61 } tcp dport { 21 } ct mark set 2 dnat ip to 10.61.4.20
ct mark { 1, 2 } accept
ct mark 2 snat ip to 10.61.4.1
"""

from collections.abc import Iterable, Iterator, Mapping

from jinja2 import Environment, StrictUndefined

from ....core.changes.adopted import DeviceConfig
from ....core.model.site import INTERNET, Filter, Gateway, HostFilter, Refusal, Rule, Server, Site
from ....core.network.filters import counts
from ....core.network.flow import segment_bytes
from ....core.network.topology import listens_on
from ....core.network.translation import Rewrite, rewrites
from ....core.sheets.sheet import distinct, loader_of, slug, untold_parts
from ....core.values.addresses import EVERY_ADDRESS, FAMILIES, Address, Addresses, AddressSet, Family, public_addresses
from ....core.values.ports import EVERY_PORT, NO_PORTS, PortSet
from ...reading import bad_file
from ...shipped import shipped_text
from ..format import DeviceFormat, DeviceTarget, WrittenFile
from .gateway import read_gateway, sides_of
from .host import read_ruleset
from .listing import is_ruleset, items_of_nft
from .routing import Routing

WIRE, OUT, IN = "eth0", "out0", "in0"
TABLE = "inet eager_lantern"
LOADER = "load.sh"
BOTH = "meta l4proto { tcp, udp }"
FORWARDED, TURNED, HIDDEN, JUDGED = 1, 2, 3, 4
"""Marks of a connection: a forward that passes the filter; one that is turned back; a forward that the filter is
asked about and whose source is hidden; a pair that the filter was asked about before it was rewritten."""
MAPPED = "198.18.64.0/24"
"""By what a lab's stand-in for NAT64 knows inside hosts in IPv4: a range for tests of devices (RFC 2544)."""
_LAYER = {4: "ip", 6: "ip6"}
_SAYS: dict[Refusal, str] = {
    "reset": "port-unreachable",
    "port-unreachable": "port-unreachable",
    "host-unreachable": "host-unreachable",
    "prohibited": "admin-prohibited",
}
"""What nftables calls the kinds of refusal, in ICMP and ICMPv6; nothing but TCP can be reset."""
Listening = Mapping[str, PortSet]


def listening(site: Site) -> dict[str, PortSet]:
    """The ports of each service, for rules that name one."""
    return {each.name: listens_on(each) for each in site.services}


def host_rules(both: HostFilter, category: str | None, listening: Listening, reads: PortSet = NO_PORTS) -> str:
    """The table of a host; ``listening`` states the ports of a service that a rule names, ``reads`` the control ports
    that its FTP helper watches."""
    return _replacing_table(
        [
            *(_ct_helper("prerouting priority mangle", reads) if reads else ()),
            "chain incoming { type filter hook input priority 0; policy accept;",
            'iifname "lo" accept',
            *_filter_lines(both.incoming, category, listening),
            "}",
            "chain outgoing { type filter hook output priority 0; policy accept;",
            'oifname "lo" accept',
            *_filter_lines(both.outgoing, category, listening),
            "}",
        ]
    )


def gateway_rules(spec: Gateway, listening: Listening) -> str:
    """The table of a gateway, for interfaces that ``$outside`` and ``$inside`` name. Marks of the
    connection tell later chains what was done to it."""
    return _replacing_table(_gateway_lines(spec, listening))


def _replacing_table(lines: Iterable[str]) -> str:
    """A table that takes the place of one of the same name, in one step."""
    return _indent_blocks([f"table {TABLE}", f"delete table {TABLE}", f"table {TABLE} {{", *lines, "}"])


def _indent_blocks(lines: Iterable[str]) -> str:
    depth, shown = 0, []
    for line in lines:
        opens = 0 if line.startswith("#") else line.count("{") - line.count("}")
        depth += min(0, opens)
        shown.append("\t" * depth + line)
        depth += max(0, opens)
    return "\n".join(shown) + "\n"


def named_wires(outside: str, inside: str) -> str:
    """The lines that tell a gateway's table which interface is which."""
    return f'define outside = "{outside}"\ndefine inside = "{inside}"\n'


def surroundings(wires: Mapping[str, str], spec: Gateway | None = None) -> str:
    """What a node of a lab needs beside its own table: the internet, where nobody has a way to an
    address that is not public; a gateway's provider; and what the gateway says on its inside
    address, which is its own business and no part of its table. ``wires`` are the networks by wire."""
    lines = ["table inet surroundings {", *_no_path(tuple(wire for wire, name in wires.items() if name == INTERNET))]
    if spec is not None:
        lines += ["chain provider { type filter hook prerouting priority mangle; policy accept;"]
        if barred := spec.provider_blocks.ports | spec.unknown_ports.ports:  # of the latter nothing is predicted
            lines.append(f'iifname "{OUT}" ct state new,related {BOTH} th dport {_nft_set(barred)} drop')
        if spec.outside.ports is not None:
            for family in FAMILIES:
                if addresses := Addresses(spec.outside.address.of_family(family)):
                    match = f'iifname "{OUT}" ct state new,related {_LAYER[family]} daddr {{ {addresses} }}'
                    lines.append(f"{match} {BOTH} th dport != {_nft_set(spec.outside.ports)} drop")
        lines += ["}", "chain itself { type filter hook input priority 0; policy accept;"]
        for family in FAMILIES:
            if inside := Addresses(spec.inside.address.of_family(family)):
                match = f"ct state new {_LAYER[family]} daddr {{ {inside} }} {BOTH}"
                lines += _verdict(match, _default_action(spec))
        if spec.nat64 is not None:
            own = spec.outside.address.of_family(4)[0]
            lines += ["}", "chain mapped { type nat hook postrouting priority srcnat - 5; policy accept;"]
            lines.append(f'oifname "{OUT}" ip saddr {MAPPED} snat ip to {own}')
        if spec.too_big == "dropped":
            lines += ["}", "chain told { type filter hook output priority 0; policy accept;"]
            lines += ["icmp type destination-unreachable icmp code frag-needed drop", "icmpv6 type packet-too-big drop"]
        lines += ["}", "chain unturned { type filter hook forward priority 20; policy accept;", *_unturned(spec), "}"]
    return _indent_blocks([*lines, "}"])


def _unturned(spec: Gateway) -> Iterator[str]:
    """What comes from inside goes out, and is lost there, unless the device has a route that leads it back inside; so
    do refusals by ICMP."""
    yield f"ct mark {TURNED} accept"
    same = f'iifname "{IN}" oifname "{IN}"'
    for route in spec.routes:
        for family in FAMILIES:
            if known := route.to.of_family(family):
                yield f"{same} {_LAYER[family]} daddr {_nft_set(known)} accept"
    yield f"{same} meta l4proto {{ tcp, udp, icmp, icmpv6 }} drop"


def _no_path(wires: tuple[str, ...]) -> Iterator[str]:
    """Nobody on the internet has a way to an address that is not public (RFC 1918, RFC 6598), even
    where the site has a device with such an address there; answers to it do find back."""
    elsewhere = EVERY_ADDRESS - public_addresses()
    yield "chain no-path { type filter hook postrouting priority 0; policy accept;"
    for wire in wires:
        for family in FAMILIES:
            target = f"{_LAYER[family]} daddr {_nft_set(elsewhere.of_family(family))}"
            yield f'oifname "{wire}" {target} ct state new {BOTH} drop'
    yield "}"


def _filter_lines(table: Filter, category: str | None, listening: Listening) -> Iterator[str]:
    """The rules of a filter, then its default; answers to what was allowed always pass."""
    yield "ct state established,related accept"
    for rule in table.rules:
        if counts(rule, category):
            yield from _name_remark(rule.name)
            yield from _rule(rule, listening)
    yield from _verdict(BOTH, table.default, table.refuses_with)


def _name_remark(name: str) -> Iterator[str]:
    if name:
        yield f"# {name}"


def _rule(rule: Rule, listening: Listening) -> Iterator[str]:
    match = BOTH if rule.protocol == "any" else f"meta l4proto {rule.protocol}"
    ports = rule.ports & listening.get(rule.program, PortSet()) if rule.program else rule.ports
    if not ports:
        return
    if ports != EVERY_PORT:
        match += f" th dport {_nft_set(ports)}"
    if rule.from_ports is not None:
        match += f" th sport {_nft_set(rule.from_ports)}"
    for places in _address_matches(rule):
        yield from _verdict(match + places, rule.action, rule.refuses_with)


def _address_matches(rule: Rule) -> Iterator[str]:
    """The addresses that a rule asks for, one match for each family that it can be about."""
    asked = {key: each for key, each in (("saddr", rule.from_), ("daddr", rule.to)) if each is not None}
    if not asked:
        yield ""
        return
    for family in FAMILIES:
        parts = {key: each.of_family(family) for key, each in asked.items()}
        if all(parts.values()):
            yield "".join(f" {_LAYER[family]} {key} {_nft_set(each)}" for key, each in parts.items())


def _nft_set(members: PortSet | AddressSet) -> str:
    return f"{{ {members} }}"


def _verdict(match: str, action: str, refuses_with: Refusal | None = None) -> Iterator[str]:
    if action != "refuse":
        yield f"{match} {'accept' if action == 'allow' else 'drop'}"
        return
    if refuses_with in (None, "reset"):
        yield f"{match} meta l4proto tcp reject with tcp reset"
    yield f"{match} reject with icmpx type {_SAYS[refuses_with or 'reset']}"


def _gateway_lines(spec: Gateway, listening: Listening) -> Iterator[str]:
    if spec.ftp_helper:
        yield from _helper_chain(spec)
    if spec.filter_sees == "outside":
        yield "chain judged { type filter hook prerouting priority dstnat - 10; policy accept;"
        yield from _filter_before_rewrite(spec)
        yield "}"
    if spec.clamps_mss:
        yield from _clamped(spec)
    yield "chain rewrite { type nat hook prerouting priority dstnat; policy accept;"
    yield from _rewrites(spec)
    yield "}"
    yield "chain through { type filter hook forward priority 0; policy accept;"
    if spec.idle_timeout is not None:
        yield "ct state invalid drop"  # what the device has forgotten, it does not pass
    judged = f", {JUDGED}" if spec.filter_sees == "outside" else ""
    yield f"ct mark {{ {FORWARDED}, {TURNED}{judged} }} accept"
    yield "ct state established,related accept"
    yield "iifname $outside jump inward"
    yield "iifname $inside jump outward"
    yield "}"
    yield "chain unpaired { type filter hook forward priority 10; policy accept;"
    yield from _unpaired(spec)
    yield "}"
    yield "chain inward {"
    yield from _filter_lines(spec.filter.inward, None, listening)
    yield "}"
    yield "chain outward {"
    yield from _filter_lines(spec.filter.outward, None, listening)
    yield "}"
    yield from _device_answers(spec)
    yield "chain sources { type nat hook postrouting priority srcnat; policy accept;"
    yield from _sources(spec)
    yield "}"


def _device_answers(spec: Gateway) -> Iterator[str]:
    """What the device answers on its outside addresses; its inside address is left to it."""
    yield "chain itself { type filter hook input priority 0; policy accept;"
    yield "ct state established,related accept"
    for family in FAMILIES:
        if inside := Addresses(spec.inside.address.of_family(family)):
            yield f"iifname $inside {_LAYER[family]} daddr {{ {inside} }} accept"
    yield 'iifname "lo" accept'
    yield from _verdict(BOTH, _default_action(spec))
    yield "}"


def _default_action(spec: Gateway) -> str:
    return "deny" if spec.unmatched == "silent" else "refuse"


def _filter_before_rewrite(spec: Gateway) -> Iterator[str]:
    """What comes from outside for an outside address, asked before it is rewritten."""
    for family in FAMILIES:
        if addresses := Addresses(spec.outside_addresses.of_family(family)):
            yield f"iifname $outside {_LAYER[family]} daddr {{ {addresses} }} jump inward"


def _clamped(spec: Gateway) -> Iterator[str]:
    """The segment size of connections that pass is made one that fits the smaller line, in both directions."""
    yield "chain clamped { type filter hook forward priority mangle; policy accept;"
    for family in FAMILIES:
        size = segment_bytes(spec, family)
        match = f"meta nfproto ipv{family} tcp flags syn tcp option maxseg size > {size}"
        yield f"{match} tcp option maxseg size set {size}"
    yield "}"


def _helper_chain(spec: Gateway) -> Iterator[str]:
    """The kernel's own reader of FTP control connections, on the port as it arrives here, or as it goes on."""
    where = "prerouting priority mangle" if spec.helper_sees == "outside" else "forward priority mangle"
    return _ct_helper(where, spec.helper_ports)


def _ct_helper(where: str, ports: PortSet) -> Iterator[str]:
    for family in FAMILIES:
        yield f'ct helper ftp{family} {{ type "ftp" protocol tcp; l3proto {_LAYER[family]}; }}'
    yield f"chain read {{ type filter hook {where}; policy accept;"
    for family in FAMILIES:
        yield f'meta nfproto ipv{family} tcp dport {_nft_set(ports)} ct helper set "ftp{family}"'
    yield "}"


def _rewrites(spec: Gateway) -> Iterator[str]:
    """Forwards, then pairs, for what comes from outside; and for what is turned back."""
    before = spec.filter_sees == "outside"
    forward = FORWARDED if spec.forwards_pass_filter or before else HIDDEN if spec.forwards_hide_source else 0
    ways = [("$outside", _marked(forward), _marked(JUDGED if before else 0))]
    if spec.hairpin:
        ways.append(("$inside", _marked(TURNED), _marked(TURNED)))
    for wire, forward_mark, pair_mark in ways:
        for each in rewrites(spec):
            yield from _name_remark(each.name)
            yield from _rewrite_lines(spec, each, f"iifname {wire}", forward_mark if each.forwarded else pair_mark)


def _marked(mark: int) -> str:
    return f"ct mark set {mark} " if mark else ""


def _rewrite_lines(spec: Gateway, rewrite: Rewrite, wire: str, mark: str) -> Iterator[str]:
    family = rewrite.to.family
    layer = _LAYER[family]
    outside = spec.outside_addresses.of_family(family) if rewrite.outside is None else (rewrite.outside,)
    addresses = Addresses(outside)
    if rewrite.protocol is None:
        if addresses:
            yield f"{wire} {layer} daddr {{ {addresses} }} {BOTH} {mark}dnat {layer} to {rewrite.to}"
        return
    sources = rewrite.sources.of_family(family) if rewrite.sources is not None else None
    if not addresses or sources == AddressSet() or not rewrite.ports:
        return
    source = f" {layer} saddr {_nft_set(sources)}" if sources is not None else ""
    match = f"{wire} {layer} daddr {{ {addresses} }} {rewrite.protocol} dport {_nft_set(rewrite.ports)}{source}"
    yield f"{match} {mark}dnat {layer} to {_rewrite_target(rewrite)}"


def _rewrite_target(rewrite: Rewrite) -> str:
    if not rewrite.offset:
        return str(rewrite.to)
    moves = ", ".join(f"{port} : {port + rewrite.offset}" for port in rewrite.ports)
    to = f"[{rewrite.to}]" if rewrite.to.family == 6 else str(rewrite.to)
    return f"{to} : {rewrite.protocol} dport map {{ {moves} }}"


def _sources(spec: Gateway) -> Iterator[str]:
    for family in FAMILIES:
        side = spec.outside if spec.hairpin_source == "outside" else spec.inside
        for own in side.address.of_family(family)[:1] if spec.hairpin_source != "kept" else ():
            yield f"ct mark {TURNED} snat {_LAYER[family]} to {own}"
        for inside in spec.inside.address.of_family(family)[:1] if spec.forwards_hide_source else ():
            yield f"iifname $outside ct mark {{ {FORWARDED}, {HIDDEN} }} snat {_LAYER[family]} to {inside}"
    for pair in spec.pairs:
        layer = _LAYER[pair.inside.family]
        yield f"oifname $outside {layer} saddr {pair.inside} snat {layer} to {pair.outside}"
    for family in FAMILIES:
        addresses = spec.outside.address.of_family(family)
        if addresses and spec.translates(family) != "none":
            to = str(addresses[0]) if len(addresses) == 1 else _pool(spec, family, addresses)
            yield f"oifname $outside meta nfproto ipv{family} snat {_LAYER[family]} to {to}"


def _pool(spec: Gateway, family: Family, addresses: tuple[Address, ...]) -> str:
    """Paired pooling gives a host the same outside address each time (RFC 4787, REQ-2)."""
    listed = ", ".join(f"{i} : {each}" for i, each in enumerate(addresses))
    paired = spec.pooling == "paired"
    pick = f"jhash {_LAYER[family]} saddr" if paired else "numgen random"
    return f"{pick} mod {len(addresses)} map {{ {listed} }}"


def _unpaired(spec: Gateway) -> Iterator[str]:
    """Inside hosts that have no outside address to go out with."""
    for family in FAMILIES:
        if spec.outside.address.of_family(family) or spec.translates(family) == "none":
            continue
        paired = Addresses(tuple(pair.inside for pair in spec.pairs if pair.inside.family == family))
        strangers = f" {_LAYER[family]} saddr != {{ {paired} }}" if paired else ""
        yield f"iifname $inside oifname $outside meta nfproto ipv{family} ct state new {BOTH}{strangers} drop"


EXTERNAL, INTERNAL = "eth0", "eth1"
_HEAD = """\
# {device} of {site}: packet filter rules for nftables, from the site file.
# Check: nft -c -f FILE. Load: nft -f FILE. Take back: nft delete table inet eager_lantern.
# Other tables stay as they are; a connection has to pass all of them.
"""
_WIRES = "# Put the names of this machine's interfaces here (ip -brief address).\n"


def rule_files(site: Site) -> dict[str, str]:
    """The text of the rule file of each device whose system is linux, by its name; none for one whose file states
    that something is not known."""
    ports = listening(site)
    found = {}
    devices: tuple[Server | Gateway, ...] = (site.server, *site.gateways)
    for each in devices:
        if each.system != "linux" or untold_parts(each):
            continue
        if isinstance(each, Gateway):
            rules = _WIRES + named_wires(EXTERNAL, INTERNAL) + "\n" + gateway_rules(each, ports)
        else:
            reads = each.helper_ports if each.ftp_helper else NO_PORTS
            rules = host_rules(each.filter, each.category, ports, reads)
        found[each.name] = _HEAD.format(device=each.name, site=site.site) + "\n" + rules
    return found


def _write(site: Site) -> tuple[WrittenFile, ...]:
    """A rule file for each device, and a script that loads it with a way back."""
    texts = rule_files(site)
    names = distinct(f"{slug(each)}.nft" for each in texts)
    rules = [WrittenFile(name, owner, text) for name, (owner, text) in zip(names, texts.items(), strict=True)]
    return (*rules, *(WrittenFile(loader_of(each.name), each.owner, _loader(each)) for each in rules))


def _loader(rules: WrittenFile) -> str:
    """A script that loads a rule file, and takes it back by itself unless it is confirmed."""
    environment = Environment(undefined=StrictUndefined, autoescape=False, keep_trailing_newline=True)
    return environment.from_string(shipped_text("load.sh.j2")).render(
        rules=rules.name, script=loader_of(rules.name), device=slug(rules.owner), table=TABLE
    )


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    gateway, routing = target.gateway, Routing.of(*target.beside)
    if gateway is None:
        read = (read_ruleset(file, text, target.direction, target.inside, routing) for file, text in texts.items())
        return [each for configs in read for each in configs]
    (file, text), *more = texts.items()
    if more:
        raise bad_file(more[0][0], f"found a second rule set of {gateway.name}; expected one")
    items = items_of_nft(file, text)
    return list(read_gateway(file, items, target.site, gateway, sides_of(target, file), routing))


FORMAT = DeviceFormat(
    "nftables", "what nft list ruleset prints, as text or as JSON (-j)", "nft list ruleset, as root",
    recognises=lambda file, text: is_ruleset(text), reads=_read, writes=_write, endings=("nft", LOADER),
    omits="which lines are inside and outside; what extensions of the older filter ask for, in JSON",
)  # fmt: skip
