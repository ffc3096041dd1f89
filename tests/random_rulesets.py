"""Rule sets of a host as somebody might have written them for the packet filter (chains, jumps, sets, negations), and
the adopted ones held against the kernel."""

import random
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import to_builtins
from msgspec.structs import replace
from side_by_side import Compared, compared

from eager_lantern.core.changes.adopted import DeviceConfig, Skipped
from eager_lantern.core.model.site import Client, Site
from eager_lantern.formats.devices.packet_filter.host import read_ruleset
from eager_lantern.formats.devices.packet_filter.iptables import read_iptables
from eager_lantern.lab.kernel.layout import Node, lab_nodes
from eager_lantern.lab.tasks.probes import Probe

ADDRESSES = ("10.61.4.30", "10.61.4.31", "10.61.4.32", "10.61.4.33")
PORTS = range(1, 16)


class Tally(NamedTuple):
    """How many connections were tried, of how many it is unknown, and those that ended otherwise than by the site."""

    tried: int
    unknown: int
    different: list[str]


def random_ruleset(chance: random.Random) -> str:
    """The text of a rule set, as ``nft -f`` reads it."""
    tables = ["".join(_table(chance, "inet", "harbour", 0))]
    if chance.random() < 0.4:
        family = chance.choice(["ip", "inet"])
        wall = "".join(_table(chance, family, "wall", chance.choice([-5, 10])))
        tables.append(wall.replace("icmpx", "icmp") if family == "ip" else wall)
    return "\n".join(tables)


def _table(chance: random.Random, family: str, name: str, priority: int) -> Iterator[str]:
    some = ", ".join(chance.sample(ADDRESSES, 2))
    yield f"table {family} {name} {{\n"
    yield f"  set known {{ type ipv4_addr; flags interval; elements = {{ {some} }} }}\n"
    yield f"  set doors {{ type inet_service; flags interval; elements = {{ {_span(chance)} }} }}\n"
    for chain, below in (("inner", ()), ("outer", ("inner",))):
        yield f"  chain {chain} {{\n{_rules(chance, below)}  }}\n"
    policy = chance.choice(["accept", "drop"])
    yield f"  chain arriving {{ type filter hook input priority {priority}; policy {policy};\n"
    yield "    iifname lo accept\n"
    yield f"    {_rule(chance, ())}\n" if chance.random() < 0.2 else ""
    known = "ct state established,related accept", "ct state != new accept", "tcp flags & (syn|ack) == ack accept", ""
    yield f"    {chance.choices(known, (7, 1, 1, 1))[0]}\n"
    yield "    icmp type echo-request limit rate 5/second accept\n"
    yield "    icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept\n" if family == "inet" else ""
    yield f"{_rules(chance, ('inner', 'outer'))}  }}\n"
    if chance.random() < 0.15:
        yield "  chain led { type nat hook prerouting priority dstnat; policy accept;\n"
        yield f"    tcp dport {chance.choice(PORTS)} redirect to :{chance.choice(PORTS)}\n  }}\n"
    yield "}\n"


def _rules(chance: random.Random, below: tuple[str, ...]) -> str:
    return "".join(f"    {_rule(chance, below)}\n" for _ in range(chance.randint(1, 5)))


DOUBTS = (
    "meta mark 0x0", "meta mark 0x5", "limit rate 1000/second", "limit rate over 1000/second",
    "fib daddr type local", "ip dscp cs1", "meta length > 10",
)  # fmt: skip
"""What a site has no words for: some of it is always so, some never."""


def _map(chance: random.Random, below: tuple[str, ...]) -> str:
    first, second = sorted(chance.sample(PORTS, 2))
    verdicts = ["accept", "drop", "return", *(f"jump {each}" for each in below)]
    return f"{{ {first} : {chance.choice(verdicts)}, {second} : {chance.choice(verdicts)} }}"


def _rule(chance: random.Random, below: tuple[str, ...]) -> str:
    transport = chance.choice(["tcp", "tcp", "udp", "th"])
    if chance.random() < 0.1:
        return f"{chance.choice(['tcp', 'udp'])} dport vmap {_map(chance, below)}"
    asked = [_from(chance)] if chance.random() < 0.5 else []
    asked += ["ct state new"] if chance.random() < 0.2 else []
    asked += [_ports(chance, transport)] if chance.random() < 0.8 else []
    asked += [chance.choice(DOUBTS)] if chance.random() < 0.12 else []
    verdicts = ["accept", "accept", "drop", "reject with icmpx type admin-prohibited", "return", "counter"]
    verdicts += ["meta mark set 0x7"]
    verdicts += ["reject with tcp reset"] if any(each.startswith("tcp ") for each in asked) else []
    verdicts += [f"jump {each}" for each in below] * 2 + [f"goto {each}" for each in below]
    return " ".join([*asked, chance.choice(verdicts)])


def _from(chance: random.Random) -> str:
    negation = chance.choice(["", "", "!= "])
    return f"ip saddr {negation}" + chance.choice(
        [
            chance.choice(ADDRESSES),
            "@known",
            "10.61.4.32/31",
            "10.61.4.30-10.61.4.31",
            f"{{ {', '.join(ADDRESSES[1:3])} }}",
        ]
    )


def _ports(chance: random.Random, transport: str) -> str:
    way = chance.choice(["dport", "dport", "dport", "sport"])
    wanted = _span(chance) if way == "dport" else "5000-5100"
    wanted = chance.choice([wanted, "@doors"]) if way == "dport" else wanted
    negation = chance.choice(["", "", "", "!= "])
    kind = "meta l4proto { tcp, udp } " if transport == "th" else ""
    return f"{kind}{transport} {way} {negation}{wanted}"


def _span(chance: random.Random) -> str:
    low = chance.choice(PORTS)
    return f"{low}-{low + chance.randint(1, 5)}" if chance.random() < 0.7 else str(low)


SITE: dict[str, Any] = {
    "lantern": 1,
    "site": "Harbour",
    "networks": [{"name": "office", "subnet": "10.61.4.0/24"}],
    "gateways": [],
    "server": {"name": "store", "network": "office", "address": "10.61.4.20"},
    "clients": [{"name": f"desk-{i}", "network": "office", "address": each} for i, each in enumerate(ADDRESSES)],
}


FORMS = ("nft -j", "nft -j -n", "nft", "nft -n -a")
"""Ways to list a rule set: as JSON or text, in words or numbers."""


def listed(text: str, folder: Path, form: str) -> str:
    """The rule set as the kernel lists it, loaded into a network namespace of its own."""
    (folder / "rules.nft").write_text(text)
    command = f"nft -f {folder / 'rules.nft'} && {form} list ruleset"
    return subprocess.run(
        ["unshare", "-n", "sh", "-c", command], capture_output=True, text=True, check=True, timeout=60
    ).stdout


def differences(text: str, folder: Path, chance: random.Random) -> Tally:
    """How many connections through a rule set were tried, and those that ended otherwise than by the site."""
    return _differences(read_ruleset("listed", listed(text, folder, chance.choice(FORMS)), "in")[0], text, chance)


def _differences(reading: DeviceConfig, text: str, chance: random.Random) -> Tally:
    assert reading.default is not None
    last = {"refuses_with": reading.default.refuses_with} if reading.default.refuses_with else {}
    table = {"default": reading.default.default, **last, "rules": to_builtins(reading.rules, enc_hook=str)}
    site = {**SITE, "server": {**SITE["server"], "filter": {"incoming": table}}}

    def nodes(read: Site, strangers: Sequence[Client]) -> tuple[Node, ...]:
        return tuple(replace(each, rules=text) if each.name == "store" else each for each in lab_nodes(read, strangers))

    found = compared(site, 0, chance, arriving(chance), nodes)
    return tallied(found, reading.skipped)


def arriving(chance: random.Random) -> list[Probe]:
    """Connections of every desk to the store."""
    return [
        Probe(f"desk-{i}", protocol, address, 5000 + 20 * port + i, "10.61.4.20", port)
        for i, address in enumerate(ADDRESSES)
        for protocol in ("tcp", "udp")
        for port in chance.sample(PORTS, 6)
    ]


def tallied(found: Sequence[Compared], left: Sequence[Skipped]) -> Tally:
    """What is unknown has to be by a rule that is told."""
    unknown = [each for each in found if each.predicted == "unknown"]
    told = any("is unknown" in each.why for each in left)
    different = [f"{each.what}: {each.differs}" for each in found if each.differs]
    return Tally(len(found), len(unknown), [*different, *(f"{each.what}: unknown" for each in unknown if not told)])


def random_iptables(chance: random.Random) -> str:
    """The text of a rule set, as ``iptables-restore`` reads it."""
    lines = [
        "*filter",
        f":INPUT {chance.choice(['ACCEPT', 'DROP'])} [0:0]",
        ":FORWARD DROP [0:0]",
        ":OUTPUT ACCEPT [0:0]",
    ]
    lines += [":outer - [0:0]", ":inner - [0:0]"]
    lines += ["-A INPUT -i lo -j ACCEPT", "-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT"]
    lines += ["-A INPUT -p icmp -m icmp --icmp-type 8 -m limit --limit 5/sec -j ACCEPT"]
    for chain, below in (("inner", ()), ("outer", ("inner",)), ("INPUT", ("inner", "outer"))):
        lines += [f"-A {chain} {_old_rule(chance, below)}" for _ in range(chance.randint(1, 5))]
    return "\n".join([*lines, "COMMIT", ""])


OLD_DOUBTS = ("-m limit --limit 1000/sec", "-m mark --mark 0x5", "-m mark --mark 0x0", "-m addrtype --dst-type LOCAL")


def _old_rule(chance: random.Random, below: tuple[str, ...]) -> str:
    asked = []
    if chance.random() < 0.5:
        whom = [chance.choice(ADDRESSES), "10.61.4.32/31", "10.61.4.0/24"]
        asked.append(f"{chance.choice(['', '', '! '])}-s {chance.choice(whom)}")
        if chance.random() < 0.2:
            asked[-1] = "-m iprange --src-range 10.61.4.30-10.61.4.31"
    asked += ["-m conntrack --ctstate NEW"] if chance.random() < 0.2 else []
    asked += [chance.choice(OLD_DOUBTS)] if chance.random() < 0.12 else []
    transport = chance.choice(["tcp", "udp", ""])
    if transport:
        way = chance.choice(["dport", "dport", "dport", "sport"])
        wanted = _span(chance).replace("-", ":") if way == "dport" else "5000:5100"
        negation = chance.choice(["", "", "! "])
        # the translation into the newer words (1.8.9) loses the negation of -m udp: that is asked of multiport alone
        single = f"-m {transport} {negation if transport == 'tcp' else ''}--{way} {wanted}"
        several = f"-m multiport {negation}--{way}s {wanted},{chance.choice(PORTS) + 20}"
        asked.append(f"-p {transport} {chance.choice([single, several])}")
    verdicts = ["ACCEPT", "ACCEPT", "DROP", "REJECT --reject-with icmp-admin-prohibited", "RETURN"]
    verdicts += ["REJECT --reject-with tcp-reset"] * (transport == "tcp")
    targets = [*(f"-j {each}" for each in (*verdicts, *below, *below)), *(f"-g {each}" for each in below)]
    return " ".join([*asked, chance.choice(targets)])


def old_differences(text: str, folder: Path, chance: random.Random) -> Tally:
    """The same of rules of iptables: what it saves again is read, and its own translation is what the kernel does."""
    (folder / "rules.v4").write_text(text)
    script = f"cd {folder}; iptables-restore rules.v4; iptables-save >saved; iptables-restore-translate -f saved"
    done = subprocess.run(
        ["unshare", "-n", "sh", "-ec", script], capture_output=True, text=True, check=True, timeout=60
    )
    (reading, *_) = read_iptables("saved", {"saved": (folder / "saved").read_text()}, "in")
    return _differences(reading, done.stdout, chance)
