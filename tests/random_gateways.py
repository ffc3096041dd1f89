"""Rule sets of a gateway as somebody might have written them (forwards, filters by interface, translation), for both of
the kernel's filters, and the adopted ones held against the kernel."""

import json
import random
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec import to_builtins
from msgspec.structs import replace
from random_rulesets import DOUBTS, FORMS, OLD_DOUBTS, Tally, listed, tallied
from side_by_side import compared

from eager_lantern.core.changes.adopted import adopted
from eager_lantern.core.model.site import Client, Gateway, Site
from eager_lantern.core.predict.access import access, more
from eager_lantern.formats.devices.packet_filter.gateway import Sides, read_gateway
from eager_lantern.formats.devices.packet_filter.iptables import items_of_iptables
from eager_lantern.formats.devices.packet_filter.listing import items_of_nft
from eager_lantern.formats.devices.packet_filter.nftables import IN, OUT, rule_files, surroundings
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.layout import Node, lab_nodes
from eager_lantern.lab.tasks.probes import Probe

STORE, PUBLIC, DESK = "10.61.4.20", "198.51.100.61", "10.61.4.30"
ABROAD = ("203.0.113.30", "203.0.113.31", "203.0.113.32")
PORTS = range(1, 16)
FEW = (f"ip saddr != {DESK} ", f"ip daddr != {{ 10.99.0.0/16, {ABROAD[0]} }} ", "tcp dport 1-9 ")
"""What is translated of a gateway's inside, where it is not all."""
SIDES = Sides(OUT, IN)
GATEWAY: dict[str, Any] = {
    "name": "router",
    "outside": {"network": "internet", "address": PUBLIC},
    "inside": {"network": "office", "address": "10.61.4.1"},
}
SITE: dict[str, Any] = {
    "lantern": 1,
    "site": "Border",
    "networks": [{"name": "office", "subnet": "10.61.4.0/24"}],
    "gateways": [GATEWAY],
    "server": {"name": "store", "network": "office", "address": STORE},
    "clients": [
        *({"name": f"abroad-{i}", "network": "internet", "address": each} for i, each in enumerate(ABROAD)),
        {"name": "desk", "network": "office", "address": DESK},
    ],
}


def random_gateway(chance: random.Random) -> str:
    """The text of a rule set, as ``nft -f`` reads it."""
    opens = "    ct status dnat accept\n" if chance.random() < 0.4 else ""
    if chance.random() < 0.25:  # some forwards alone open the filter
        opens = f"    ct status dnat {chance.choice(['tcp', 'udp'])} dport 1-{chance.choice(PORTS)} accept\n"
    forwards = "".join(f"    {_forward(chance)}\n" for _ in range(chance.randint(1, 4)))
    hides = chance.choice(["", "", "", *FEW]) + chance.choice(["masquerade", f"snat ip to {PUBLIC}"])
    return f"""table inet border {{
  set friends {{ type ipv4_addr; elements = {{ {", ".join(chance.sample(ABROAD, 2))} }} }}
  chain inner {{
{_rules(chance, False)}  }}
  chain handed {{ type filter hook forward priority 0; policy {chance.choice(["accept", "drop"])};
    ct state established,related accept
{opens}{_rules(chance, True)}  }}
  chain rewritten {{ type nat hook prerouting priority dstnat; policy accept;
{forwards}  }}
{_before(chance)}  chain hidden {{ type nat hook postrouting priority srcnat; policy accept;
    oifname "{OUT}" {hides}
  }}
  chain itself {{ type filter hook input priority 0; policy drop;
    ct state established,related accept
    icmp type echo-request accept
    icmpv6 type {{ nd-neighbor-solicit, nd-neighbor-advert }} accept
  }}
}}
"""


def _before(chance: random.Random) -> str:
    """At times what is stopped before it is rewritten."""
    if chance.random() < 0.8:
        return ""
    some = f"ip saddr {chance.choice(ABROAD)} tcp dport {chance.choice(PORTS)} drop"
    return f"  chain early {{ type filter hook prerouting priority -150; policy accept;\n    {some}\n  }}\n"


def _forward(chance: random.Random) -> str:
    low = chance.choice(PORTS)
    asked = [f'iifname "{OUT}"'] + [f"ip daddr {PUBLIC}"] * (chance.random() < 0.7)
    asked += [f"ip saddr {chance.choice(['', '!= '])}{chance.choice(['@friends', *ABROAD])}"] * (chance.random() < 0.3)
    transport = chance.choice(["tcp", "tcp", "udp"])
    asked += [chance.choice(DOUBTS)] * (chance.random() < 0.1)
    if chance.random() < 0.1:
        several = f"dnat ip to {STORE}:{chance.choice(PORTS)}-20"
        return " ".join([*asked, f"{transport} dport {low}", chance.choice([several, "redirect to :3", "drop"])])
    if chance.random() < 0.2:
        return " ".join([*asked, f"{transport} dport {low} accept"])
    if chance.random() < 0.4:
        return " ".join([*asked, f"{transport} dport {low} dnat ip to {STORE}:{chance.choice(PORTS)}"])
    return " ".join([*asked, f"{transport} dport {low}-{low + chance.randint(1, 5)} dnat ip to {STORE}"])


def _rules(chance: random.Random, jumps: bool) -> str:
    return "".join(f"    {_rule(chance, jumps)}\n" for _ in range(chance.randint(1, 5)))


def _rule(chance: random.Random, jumps: bool) -> str:
    ways = [f'iifname "{OUT}" oifname "{IN}"', f'iifname "{IN}"', f'oifname "{OUT}"', f'iifname != "{IN}"', ""]
    asked = [chance.choice(ways)]
    asked += [f"ip daddr {chance.choice([STORE, '10.61.4.0/24', ABROAD[0]])}"] * (chance.random() < 0.3)
    asked += [f"ip saddr {chance.choice(['@friends', DESK, *ABROAD])}"] * (chance.random() < 0.3)
    asked += [chance.choice(DOUBTS)] * (chance.random() < 0.12)
    low = chance.choice(PORTS)
    asked += [f"{chance.choice(['tcp', 'udp'])} dport {low}-{low + 6}"] * (chance.random() < 0.8)
    verdicts = ["accept", "accept", "drop", "reject with icmpx type admin-prohibited"] + ["jump inner"] * jumps
    return " ".join(filter(None, [*asked, chance.choice(verdicts)]))


def random_old_gateway(chance: random.Random) -> str:
    """The text of a rule set, as ``iptables-restore`` reads it."""
    lines = ["*nat", *(f":{each} ACCEPT [0:0]" for each in ("PREROUTING", "INPUT", "OUTPUT", "POSTROUTING"))]
    lines += [f"-A PREROUTING {_old_forward(chance)}" for _ in range(chance.randint(1, 4))]
    lines += [f"-A POSTROUTING -o {OUT} -j {chance.choice(['MASQUERADE', f'SNAT --to-source {PUBLIC}'])}", "COMMIT"]
    lines += ["*filter", ":INPUT DROP [0:0]", f":FORWARD {chance.choice(['ACCEPT', 'DROP'])} [0:0]"]
    lines += [":OUTPUT ACCEPT [0:0]", ":inner - [0:0]", "-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT"]
    lines += ["-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT"]
    lines += ["-A FORWARD -m conntrack --ctstate DNAT -j ACCEPT"] * (chance.random() < 0.5)
    lines += [f"-A inner {_old_rule(chance, False)}" for _ in range(chance.randint(1, 4))]
    lines += [f"-A FORWARD {_old_rule(chance, True)}" for _ in range(chance.randint(1, 5))]
    return "\n".join([*lines, "COMMIT", ""])


def _old_forward(chance: random.Random) -> str:
    low = chance.choice(PORTS)
    asked = (
        [chance.choice(OLD_DOUBTS)] * (chance.random() < 0.1)
        + [f"-i {OUT}"]
        + [f"-d {PUBLIC}/32"] * (chance.random() < 0.7)
    )
    asked += [f"{chance.choice(['', '! '])}-s {chance.choice(ABROAD)}/32"] * (chance.random() < 0.3)
    transport = chance.choice(["tcp", "tcp", "udp"])
    asked.append(f"-p {transport} -m {transport} --dport")
    if chance.random() < 0.2:
        return " ".join([*asked, f"{low} -j ACCEPT"])
    if chance.random() < 0.4:
        return " ".join([*asked, f"{low} -j DNAT --to-destination {STORE}:{chance.choice(PORTS)}"])
    return " ".join([*asked, f"{low}:{low + chance.randint(1, 5)} -j DNAT --to-destination {STORE}"])


def _old_rule(chance: random.Random, jumps: bool) -> str:
    asked = [chance.choice([f"-i {OUT} -o {IN}", f"-i {IN}", f"-o {OUT}", f"! -i {IN}", ""])]
    asked += [f"-d {chance.choice([STORE + '/32', '10.61.4.0/24'])}"] * (chance.random() < 0.3)
    asked += [f"-s {chance.choice([DESK, *ABROAD])}/32"] * (chance.random() < 0.3)
    asked += [chance.choice(OLD_DOUBTS)] * (chance.random() < 0.12)
    low, transport = chance.choice(PORTS), chance.choice(["tcp", "udp"])
    asked += [f"-p {transport} -m {transport} --dport {low}:{low + 6}"] * (chance.random() < 0.8)
    verdicts = ["ACCEPT", "ACCEPT", "DROP", "REJECT --reject-with icmp-admin-prohibited"] + ["inner"] * jumps
    return " ".join(filter(None, [*asked, f"-j {chance.choice(verdicts)}"]))


def gateway_differences(text: str, folder: Path, chance: random.Random) -> Tally:
    """How many connections through a rule set were tried, and those that ended otherwise than by the site."""
    found = listed(text, folder, chance.choice(FORMS))
    return _differences(items_of_nft("listed", found), text, chance)


def old_gateway_differences(text: str, folder: Path, chance: random.Random) -> Tally:
    """The same of rules of iptables: what it saves again is read, and its own translation is what the kernel does."""
    (folder / "rules.v4").write_text(text)
    script = f"cd {folder}; iptables-restore rules.v4; iptables-save >saved; iptables-restore-translate -f saved"
    done = subprocess.run(
        ["unshare", "-n", "sh", "-ec", script], capture_output=True, text=True, check=True, timeout=60
    )
    return _differences(items_of_iptables({"saved": (folder / "saved").read_text()}), done.stdout, chance)


def _differences(items: Sequence[dict[str, Any]], text: str, chance: random.Random) -> Tally:
    before = parse_site("border", json.dumps(SITE)).site
    readings = read_gateway("listed", items, before, before.gateways[0], SIDES)
    (gateway,) = adopted(before, "router", "", "in", readings).gateways
    site = {**SITE, "gateways": [to_builtins(gateway, enc_hook=str)]}

    def nodes(read: Site, strangers: Sequence[Client]) -> tuple[Node, ...]:
        own = surroundings({OUT: "internet", IN: "office"}, read.gateways[0]) + text
        return tuple(replace(each, rules=own) if each.name == "router" else each for each in lab_nodes(read, strangers))

    found = compared(site, 0, chance, passing(chance), nodes)
    return tallied(found, [one for each in readings for one in each.skipped])


def passing(chance: random.Random) -> list[Probe]:
    """Connections from abroad to the public address, and of the desk to the outside."""
    return [
        Probe(name, protocol, own, 5000 + 20 * port + i, to, port)
        for i, (name, own, to) in enumerate(
            [
                *((f"abroad-{i}", each, PUBLIC) for i, each in enumerate(ABROAD)),
                *(("desk", DESK, each) for each in ABROAD),
            ]
        )
        for protocol in ("tcp", "udp")
        for port in chance.sample(PORTS, 5)
    ]


def came_back_otherwise(site: Site, folder: Path, form: str) -> list[str]:
    """The gateways of a site whose exported rule files, loaded, listed and adopted, let through anything else."""
    wanted = replace(site, gateways=tuple(replace(each, system="linux") for each in site.gateways))
    files = rule_files(wanted)
    return [each.name for each in wanted.gateways if not _same(wanted, each, files[each.name], folder, form)]


def _same(site: Site, gateway: Gateway, text: str, folder: Path, form: str) -> bool:
    """Read into the same site with a gateway of which nothing but its sides is known."""
    blank = Gateway(name=gateway.name, outside=gateway.outside, inside=gateway.inside, system="linux")
    others = {field: getattr(gateway, field) for field in ("pairs", "routes", "nat64", "unmatched", "provider_blocks")}
    gateways = tuple(replace(blank, **others) if each is gateway else each for each in site.gateways)
    start = replace(site, gateways=gateways)
    found = items_of_nft(gateway.name, listed(text, folder, form))
    readings = read_gateway(gateway.name, found, start, blank, Sides("eth0", "eth1"))
    again = adopted(start, gateway.name, "", "in", readings)
    return (more(access(site), access(again)), more(access(again), access(site))) == ((), ())
