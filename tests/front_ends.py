"""Programs that make rule sets for the kernel (public interface of those), each really run with random options in a
network of its own: ufw, firewalld, ferm, firehol and shorewall, of a host or of a gateway."""

import json
import random
import shutil
import subprocess
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import to_builtins
from msgspec.structs import replace
from random_gateways import SITE as BORDER
from random_gateways import passing
from random_rulesets import SITE as HARBOUR
from random_rulesets import Tally, arriving, tallied
from side_by_side import Compared, compared, process_of

from eager_lantern.core.changes.adopted import Skipped, adopted
from eager_lantern.core.model.site import Client, Site
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.packet_filter.nftables import IN, OUT, surroundings
from eager_lantern.formats.devices.register import read_files
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.lab import KernelLab
from eager_lantern.lab.kernel.layout import Node, lab_nodes

STORE, PUBLIC = "10.61.4.20", "198.51.100.61"
NEAR = ("10.61.4.30", "10.61.4.31", "10.61.4.32", "10.61.4.33")
FAR = ("203.0.113.30", "203.0.113.31", "203.0.113.32")
SIX = ("2001:db8:9::9", "2001:db8:77::7")
PORTS = range(1, 16)
PATH = "/usr/sbin:/usr/bin:/sbin:/bin:/opt/ferm/usr/sbin"


class Shape(NamedTuple):
    """What the rules are of: a gateway or a host, and whom it meets."""

    name: str
    whom: tuple[str, ...]

    @property
    def gateway(self) -> bool:
        """Whether it stands between two networks."""
        return self.name == "gateway"

    @property
    def networks(self) -> tuple[str, ...]:
        """Networks that hold some of them."""
        return ("203.0.113.30/31", "203.0.113.0/24") if self.gateway else ("10.61.4.32/31", "10.61.4.0/24")


HOST, GATEWAY = Shape("host", NEAR), Shape("gateway", FAR)
Setup = Callable[[random.Random, Shape], str]
"""Commands of a shell that set a program up with random options and run it."""


def some(chance: random.Random, share: float, *words: str) -> list[str]:
    """One of these words, in that share of cases."""
    return [chance.choice(words)] if chance.random() < share else []


def span(chance: random.Random, joint: str = ":") -> str:
    """A port or a range."""
    low = chance.choice(PORTS)
    return f"{low}{joint}{low + chance.randint(1, 5)}" if chance.random() < 0.5 else str(low)


def whom(chance: random.Random, shape: Shape) -> str:
    """An address or a network."""
    return chance.choice((*shape.whom, *shape.networks))


def ufw(chance: random.Random, shape: Shape) -> str:
    """Rules in, out and routed, at random places, some with interfaces, limits and logs; a part of an own file."""
    lines = [f"ufw --force reset >&2; ufw logging {chance.choice(['off', 'low', 'medium', 'high'])} >&2"]
    for way in ("incoming", "outgoing", "routed"):
        lines.append(f"ufw default {chance.choice(['deny', 'deny', 'allow', 'reject'])} {way} >&2")
    for number in range(chance.randint(2, 9)):
        words = ["ufw", *(["route"] if shape.gateway and chance.random() < 0.7 else [])]
        words += some(chance, 0.15, "insert 1") if number else []
        words += some(chance, 0.05, "prepend")
        action = chance.choice(["allow", "allow", "allow", "deny", "reject", "limit"])
        words += [action]
        routed = words[1] == "route"
        if routed:
            words += chance.choice([[], ["in on eth0 out on eth1"], ["in on eth1"], ["out on eth1"]])
        else:
            words += [chance.choice(["in", "in", "out", "in on eth0"])]
        words += some(chance, 0.2, "log", "log-all")
        transport = chance.choice(["tcp", "tcp", "udp", ""])
        words += [f"proto {transport}"] if transport else []
        words += [f"from {chance.choice([whom(chance, shape), *SIX, 'any'])}"]
        same_family = ":" not in words[-1]
        words += [f"port {span(chance) if transport else chance.choice(PORTS)}"] if chance.random() < 0.1 else []
        words += [f"to {chance.choice([STORE, 'any'] if same_family and routed else ['any'])}"]
        wanted = f"{span(chance)},{chance.choice(PORTS) + 30}" if transport and chance.random() < 0.3 else span(chance)
        wanted = wanted if transport else wanted.partition(":")[0]
        words += [f"port {wanted}"] if chance.random() < 0.85 else []
        lines.append(" ".join(words) + " >&2 || true")
    before = list[str]()
    if shape.gateway:
        before += [f"-A PREROUTING -i eth0 -p tcp --dport {span(chance)} -j DNAT --to-destination {STORE}"
                   for _ in range(chance.randint(1, 3))]  # fmt: skip
        before += ["-A POSTROUTING -o eth0 -j MASQUERADE"]
        text = "\\n".join(
            ["*nat", ":PREROUTING ACCEPT [0:0]", ":POSTROUTING ACCEPT [0:0]", "-F", *before, "COMMIT", ""]
        )
        lines.append(f'printf "{text}" | cat - /etc/ufw/before.rules >rules; cp rules /etc/ufw/before.rules')
    return "\n".join([
        "for each in ufw default; do cp -a /etc/$each own-$each; mount --bind own-$each /etc/$each; done",
        *lines, "ufw --force enable >&2",
    ])  # fmt: skip


def firewalld(chance: random.Random, shape: Shape) -> str:
    """Zones with targets, senders, services, ports, rich rules and forwards; policies between zones."""
    offline = "firewall-offline-cmd"
    settings = {"FirewallBackend": chance.choice(["nftables", "iptables"]), "LogDenied": chance.choice(["off", "all"])}
    lines = [_set("/etc/firewalld/firewalld.conf", **settings)]
    zones = ["public", "internal"] if shape.gateway else ["public"]
    lines += [f"{offline} --zone=public --add-interface=eth0"]
    lines += [f"{offline} --zone=internal --add-interface=eth1"] if shape.gateway else []
    if chance.random() < 0.5:
        other = chance.choice(["trusted", "work", "drop", "block"])
        zones += [other] if other == "work" else []
        lines += [f"{offline} --zone={other} --add-source={whom(chance, shape)}"]
    for zone in zones:
        target = chance.choice(["default", "default", "DROP", "ACCEPT", "REJECT"])
        lines += [f"{offline} --zone={zone} --set-target={target}"]
        for _ in range(chance.randint(1, 4)):
            lines += [f"{offline} --zone={zone} {_of_zone(chance, shape)}"]
    if shape.gateway:
        lines += [f"{offline} --zone=public --add-masquerade"]
        for _ in range(chance.randint(1, 3)):
            port, to = span(chance, "-"), chance.choice(["", f":toport={chance.choice(PORTS)}"])
            transport = chance.choice(["tcp", "tcp", "udp"])
            lines += [f"{offline} --zone=public --add-forward-port=port={port}:proto={transport}{to}:toaddr={STORE}"]
        if chance.random() < 0.6:
            ways = chance.choice([("public", "internal"), ("internal", "public"), ("ANY", "internal")])
            target = chance.choice(["ACCEPT", "REJECT", "DROP", "CONTINUE"])
            options = [f"--add-ingress-zone={ways[0]}", f"--add-egress-zone={ways[1]}", f"--set-target={target}"]
            lines += [f"{offline} --new-policy=through"]
            lines += [f"{offline} --policy=through {each}" for each in (*options, _of_zone(chance, shape))]
    return "\n".join([
        "mount -t tmpfs none /run && mkdir -p /run/dbus",
        "cp -a /etc/firewalld own && mount --bind own /etc/firewalld",
        *(f"{each} >&2 || true" for each in lines),
        "dbus-daemon --system --fork --nopidfile",
        "firewalld --nofork --nopid >&2 &",
        "until firewall-cmd --state >&2; do sleep 0.2; done",
    ])  # fmt: skip


def _set(file: str, **settings: str) -> str:
    """The command that sets keys of a file of settings."""
    edits = ";".join(f"s/^{key}=.*/{key}={value}/" for key, value in settings.items())
    return f"sed -i '{edits}' {file}"


def _written(file: str, lines: Sequence[str]) -> str:
    """The command that writes a file."""
    return "\n".join([f"cat >{file} <<'END'", *lines, "END"])


def _of_zone(chance: random.Random, shape: Shape) -> str:
    transport = chance.choice(["tcp", "tcp", "udp"])
    kind = chance.choice(["port", "port", "service", "rich", "rich", "rich", "source-port", "protocol"])
    if kind == "port":
        return f"--add-port={span(chance, '-')}/{transport}"
    if kind == "service":
        return f"--add-service={chance.choice(['ftp', 'ssh', 'tftp', 'https'])}"
    if kind == "source-port":
        return f"--add-source-port={span(chance, '-')}/{transport}"
    if kind == "protocol":
        return f"--add-protocol={chance.choice(['icmp', 'udp', 'esp'])}"
    place = some(chance, 0.4, "priority=-5", "priority=10", "priority=-20")
    source = (
        [f'source {chance.choice(["", "", "NOT "])}address="{whom(chance, shape)}"'] if chance.random() < 0.7 else []
    )
    what = chance.choice(
        [f'port port="{span(chance, "-")}" protocol="{transport}"', 'service name="ftp"', 'protocol value="tcp"']
    )
    logged = some(chance, 0.2, 'log prefix="x" level="info" limit value="1/m"', "audit")
    end = chance.choice(
        ["accept", "accept", "drop", "reject", 'reject type="icmp-admin-prohibited"', 'accept limit value="900/s"']
    )
    family = ['family="ipv4"'] if source else []
    return f"--add-rich-rule='{' '.join(['rule', *place, *family, *source, what, *logged, end])}'"


def ferm(chance: random.Random, shape: Shape) -> str:
    """Both families, chains of one's own, lists, states, limits and translation."""
    text = [f"@def $SOME = ({' '.join(chance.sample(shape.whom, 2))});"]
    head = ["mod conntrack ctstate INVALID DROP;"] if chance.random() < 0.5 else []
    head += [
        chance.choice(
            ["mod conntrack ctstate (ESTABLISHED RELATED) ACCEPT;", "mod state state (ESTABLISHED RELATED) ACCEPT;"]
        )
    ]
    for chain in ("INPUT", "OUTPUT", *(["FORWARD"] if shape.gateway else [])):
        policy = chance.choice(["DROP", "DROP", "ACCEPT"])
        rules = [_of_ferm(chance, shape, chain, 2) for _ in range(chance.randint(2, 6))]
        own = ["interface lo ACCEPT;"] if chain == "INPUT" else ["outerface lo ACCEPT;"] if chain == "OUTPUT" else []
        icmp = (
            ["proto icmp ACCEPT;"]
            if chance.random() < 0.8
            else ["proto icmp icmp-type echo-request mod limit limit 9/second ACCEPT;"]
        )
        end = some(chance, 0.3, "REJECT;", "LOG log-prefix gone;", "REJECT reject-with icmp-admin-prohibited;")
        within = " ".join([*head, *own, *icmp, *rules, *end])
        text += [f"domain ip table filter chain {chain} {{ policy {policy}; {within} }}"]
    if shape.gateway:
        text += [
            "domain ip table nat {",
            "chain PREROUTING interface eth0 {",
            f"daddr {PUBLIC} {{" if chance.random() < 0.5 else "{",
        ]
        for _ in range(chance.randint(1, 3)):
            port = span(chance)
            to = STORE if ":" in port else f"{STORE}:{chance.choice(PORTS)}"
            source = some(chance, 0.3, "saddr $SOME", f"saddr ! {FAR[0]}")
            text += [" ".join([*source, f"proto {chance.choice(['tcp', 'tcp', 'udp'])} dport {port} DNAT to {to};"])]
        text += [
            "}",
            "}",
            f"chain POSTROUTING outerface eth0 {chance.choice(['MASQUERADE', f'SNAT to {PUBLIC}'])};",
            "}",
        ]
    six = " ".join(some(chance, 0.7, "proto tcp dport 1:9 ACCEPT;", f"saddr {SIX[0]} ACCEPT;"))
    text += [
        "domain ip6 table filter chain (INPUT FORWARD) {",
        f"policy DROP; {head[-1]} proto ipv6-icmp ACCEPT; interface lo ACCEPT; {six} }}",
    ]
    return _written("ferm.conf", text) + "\nferm ferm.conf"


def _of_ferm(chance: random.Random, shape: Shape, chain: str, depth: int) -> str:
    asked = some(chance, 0.4, "saddr $SOME", f"saddr {whom(chance, shape)}", f"saddr ! {whom(chance, shape)}")
    if chain == "FORWARD":
        asked += some(
            chance, 0.5, "interface eth0", "interface eth1", "outerface eth1", "interface eth0 outerface eth1"
        )
        asked += some(chance, 0.3, "mod conntrack ctstate DNAT", f"daddr {STORE}")
    asked += some(
        chance,
        0.1,
        "mod mark mark 5",
        "mod addrtype dst-type LOCAL",
        "mod limit limit 900/second",
        "mod owner uid-owner 0",
    )
    asked = [each for each in asked if "owner" not in each or chain == "OUTPUT"]
    several = f"mod multiport destination-ports ({span(chance)} {chance.choice(PORTS) + 20})"
    asked += some(
        chance,
        0.85,
        f"proto tcp dport {span(chance)}",
        f"proto udp dport {span(chance)}",
        f"proto (tcp udp) dport ({chance.choice(PORTS)} {span(chance)})",
        f"proto tcp {several}",
        f"proto tcp sport {span(chance)}",
        f"proto tcp dport ! {span(chance)}",
    )
    if depth and asked and chance.random() < 0.25:
        within = " ".join(_of_ferm(chance, shape, "", depth - 1) for _ in range(chance.randint(1, 3)))
        return f"{' '.join(asked)} @subchain sub{chance.randint(0, 9999)} {{ {within} }}"
    ends = ["ACCEPT", "ACCEPT", "DROP", "REJECT", "LOG", "RETURN"]
    tcp = any(each.startswith("proto tcp") for each in asked)
    return f"{' '.join(asked)} {chance.choice([*ends, *(['REJECT reject-with tcp-reset'] if tcp else [])])};"


def firehol(chance: random.Random, shape: Shape) -> str:
    """Interfaces with policies, protections and servers; a router with masquerade and forwards."""
    text = [
        "version 6",
        'server_drift_ports="tcp/1:9"',
        'client_drift_ports="default"',
        'server_tides_ports="tcp/2,4 udp/3:8"',
        'client_tides_ports="default"',
    ]
    verdict = ["accept", "accept", "drop", "reject", "deny"]
    services = ["drift", "tides", "ftp", "ssh", "all", f"custom pier tcp/{chance.choice(PORTS)} any"]

    def rule(word: str) -> str:
        source = some(
            chance,
            0.4,
            f"src {whom(chance, shape)}",
            f'src not "{chance.choice(shape.whom)} {chance.choice(shape.whom)}"',
        )
        return " ".join([word, f"{chance.choice(services)} {chance.choice(verdict)}", *source])

    if shape.gateway:
        for _ in range(chance.randint(1, 3)):
            text += [f"dnat4 to {STORE} inface eth0 proto {chance.choice(['tcp', 'udp'])} dport {span(chance)}"]
        text += ["masquerade4 eth0"]
    text += ["interface4 eth0 world", f" policy {chance.choice(['drop', 'reject', 'accept', 'return'])}"]
    text += some(chance, 0.3, " protection strong", " protection bad-packets")
    text += [f" {rule('server')}" for _ in range(chance.randint(1, 4))] + [
        f" {rule('client')}" for _ in range(chance.randint(1, 3))
    ]
    if shape.gateway:
        text += [
            "interface4 eth1 inside",
            " policy accept",
            "router4 through inface eth0 outface eth1",
            f" policy {chance.choice(['drop', 'reject', 'accept'])}",
        ]
        text += [f" {rule(chance.choice(['server', 'client', 'route']))}" for _ in range(chance.randint(1, 4))]
        text += [f" {rule('client')}"]
    return "\n".join([
        "cp -a /etc/firehol own && mount --bind own /etc/firehol",
        "echo START_FIREHOL=YES >switch; mount --bind switch /etc/default/firehol",
        _written("/etc/firehol/firehol.conf", text),
        "mount -t tmpfs none /var/spool/firehol 2>/dev/null || true; mount -t tmpfs none /run; firehol start >&2",
    ])  # fmt: skip


def shorewall(chance: random.Random, shape: Shape) -> str:
    """Zones, policies, rules, forwards and translation."""
    verdicts = ["ACCEPT", "ACCEPT", "DROP", "REJECT"]
    zones = ["fw firewall", "net ipv4", *(["loc ipv4"] if shape.gateway else [])]
    interfaces = [
        "?FORMAT 2",
        f"net eth0 {chance.choice(['tcpflags,nosmurfs', 'nosmurfs', '-'])}",
        *(["loc eth1 -"] if shape.gateway else []),
    ]
    policy = [
        f"$FW net {chance.choice(['ACCEPT', 'REJECT'])}",
        f"net all {chance.choice(['DROP', 'REJECT', 'DROP info'])}",
    ]
    policy += [f"loc all {chance.choice(verdicts)}"] if shape.gateway else []
    policy += ["all all REJECT"]
    rules = ["?SECTION NEW"]
    for _ in range(chance.randint(2, 7)):
        source = chance.choice(["net", f"net:{whom(chance, shape)}", f"net:!{chance.choice(shape.whom)}", "all"])
        target = chance.choice(["$FW", *([f"loc:{STORE}", "loc"] if shape.gateway else [])])
        transport = chance.choice(["tcp", "tcp", "udp", "tcp,udp"])
        ports = chance.choice([span(chance), f"{chance.choice(PORTS)},{span(chance)}"])
        action = chance.choice([*verdicts, "ACCEPT:info", "Ping(ACCEPT)", "FTP(ACCEPT)", "ACCEPT+", "LOG:info"])
        rules += [f"{action} {source} {target}" + ("" if "(" in action else f" {transport} {ports}")]
    if shape.gateway:
        for _ in range(chance.randint(1, 3)):
            to = f"loc:{STORE}{chance.choice(['', f':{chance.choice(PORTS)}'])}"
            source, transport = chance.choice(["net", f"net:{chance.choice(FAR)}"]), chance.choice(["tcp", "udp"])
            rules += [f"DNAT {source} {to} {transport} {chance.choice(PORTS)}"]
    files = {"zones": zones, "interfaces": interfaces, "policy": policy, "rules": rules}
    files |= {"snat": ["MASQUERADE 10.61.4.0/24 eth0"]} if shape.gateway else {}
    return "\n".join([
        "cp -a /etc/shorewall own && mount --bind own /etc/shorewall; mount -t tmpfs none /var/lib/shorewall",
        *(_written(f"/etc/shorewall/{name}", lines) for name, lines in files.items()),
        _set("/etc/shorewall/shorewall.conf", STARTUP_ENABLED="Yes", IP_FORWARDING="On"),
        "mount -t tmpfs none /run; mkdir -p /run/lock /run/shorewall; shorewall start >&2",
    ])  # fmt: skip


PROGRAMS: dict[str, Setup] = {
    "ufw": ufw, "firewalld": firewalld, "ferm": ferm, "firehol": firehol, "shorewall": shorewall,
}  # fmt: skip
RESTORE = {"v4.rules": ["iptables-restore"], "v6.rules": ["ip6tables-restore"]}
NFT = {"ruleset.nft": ["nft", "-f", "-"]}
"""What a listing is loaded with again."""
NETWORK = """
ip link set lo up; ip link add eth0 type veth peer name far0; ip link add eth1 type veth peer name far1
ip addr add {outer} dev eth0; ip addr add {inner} dev eth1
for each in {up}; do ip link set $each up; done
ip route add default via {via}
"""
DUMPS = """
{{ {prints}; }} >printed.txt; iptables-save >v4.rules
grep -q -- -A v4.rules || {{ iptables-legacy-save >v4.rules; ip6tables-legacy-save >v6.rules; }}
test -s v6.rules || ip6tables-save >v6.rules; nft list ruleset >ruleset.nft; ipset save >ipset.rules 2>/dev/null || true
kill %1 $(cat /run/dbus/pid 2>/dev/null) 2>/dev/null || true
"""
PRINTS = {"ufw": "ufw status verbose", "firewalld": "firewall-cmd --list-all-zones; firewall-cmd --list-all-policies"}
"""How a program prints its own state."""


def missing(program: str) -> str:
    """Why a program cannot be run here; empty where it can."""
    wanted = (program, "unshare", "iptables-save", "nft")
    lacks = [each for each in wanted if not shutil.which(each, path=PATH)]
    return f"{', '.join(lacks)} is not installed" if lacks else ""


def made(program: str, chance: random.Random, shape: Shape, folder: Path) -> str:
    """Run a program with random options, and keep what the kernel lists then: ``v4.rules``, ``v6.rules`` as
    iptables-save prints them and ``ruleset.nft`` as nft lists it. The commands that set it up are the result."""
    setup = PROGRAMS[program](chance, shape)
    outer, inner = (f"{PUBLIC}/24", "10.61.4.1/24") if shape.gateway else (f"{STORE}/24", "10.61.9.1/24")
    up, via = ("far0 far1 eth0 eth1", "198.51.100.1") if shape.gateway else ("far0 far1 eth0", "10.61.4.1")
    network = NETWORK.format(outer=outer, inner=inner, up=up, via=via)
    script = "\n".join([network, setup, DUMPS.format(prints=PRINTS.get(program, "true"))])
    command: Sequence[str] = ("unshare", "-n", "-m", "-p", "-f", "--kill-child", "--mount-proc", "bash", "-ec")
    done = subprocess.run(
        [*command, script], cwd=folder, capture_output=True, text=True, timeout=900,
        env={"PATH": PATH, "LANG": "C.UTF-8", "HOME": str(folder)}, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    if done.returncode:
        raise AssertionError(f"{program} ended with {done.returncode}: {done.stderr[-2000:]}\n{setup}")
    return setup


def saved(folder: Path) -> dict[str, str]:
    """What the kernel lists: in the form of its older filter where that made it."""
    names = RESTORE if "\n-A" in (folder / "v4.rules").read_text() else NFT
    return {name: text for name in names if (text := (folder / name).read_text())}


def printed(folder: Path) -> dict[str, str]:
    """What the program prints of its own state."""
    return {"printed.txt": (folder / "printed.txt").read_text()}


def device_of(shape: Shape) -> tuple[dict[str, Any], str]:
    """A site without rules, and the device in it that they are for."""
    return (BORDER, "router") if shape.gateway else (HARBOUR, "store")


def reading(shape: Shape, texts: dict[str, str]) -> Site:
    """The site that has the rules of these texts."""
    return _read(shape, texts)[0]


def _read(shape: Shape, texts: dict[str, str]) -> tuple[Site, list[Skipped]]:
    raw, device = device_of(shape)
    before = parse_site("before", json.dumps(raw)).site
    sides = ("eth0", "eth1") if shape.gateway else ("", "eth0")
    configs = read_files(texts, DeviceTarget(before, device, None, *sides))
    return adopted(before, device, "", "in", configs), [one for each in configs for one in each.skipped]


def nodes_of(shape: Shape) -> Callable[[Site, Sequence[Client]], tuple[Node, ...]]:
    """The nodes of the site's lab, the device without its rules."""
    _, device = device_of(shape)

    def nodes(read: Site, strangers: Sequence[Client]) -> tuple[Node, ...]:
        own = surroundings({OUT: "internet", IN: "office"}, read.gateways[0]) if shape.gateway else ""
        return tuple(replace(each, rules=own) if each.name == device else each for each in lab_nodes(read, strangers))

    return nodes


def restored(lab: KernelLab, shape: Shape, texts: dict[str, str]) -> None:
    """Load what the kernel had listed into the device of a lab."""
    inside = ["nsenter", "-t", str(process_of(lab, device_of(shape)[1])), "-n", "-U", "--preserve-credentials"]
    for name, text in texts.items():
        own = text.replace("eth0", OUT).replace("eth1", IN) if shape.gateway else text
        command = [*inside, *(RESTORE | NFT)[name]]
        subprocess.run(command, input=own, text=True, check=True, capture_output=True, timeout=60)


def held_against_kernel(folder: Path, texts: dict[str, str], chance: random.Random, shape: Shape) -> Tally:
    """The rules that a program made, as these texts have them, read into a site and held against what the kernel does
    with what it had loaded."""
    after, skipped = _read(shape, texts)
    site = {**device_of(shape)[0], **to_builtins({"server": after.server, "gateways": after.gateways}, enc_hook=str)}
    probes = passing(chance) if shape.gateway else arriving(chance)
    found = compared(site, 0, chance, probes, nodes_of(shape), lambda lab: restored(lab, shape, saved(folder)))
    return tallied([each for each in found if not _of_manner(each, shape)], skipped)


def _of_manner(found: Compared, shape: Shape) -> bool:
    """Whether a difference is in the manner of a refusal alone: by which error, or of a gateway, for which a site has
    one word where a rule set may answer each port otherwise, whether at all."""
    refused = found.differs and "'ok'" not in found.differs
    return bool(refused) and (shape.gateway or found.differs.count("('refused'") == 2)
