"""Hosts, routers and an outside in network namespaces, with real daemons: miniupnpd on the router, a STUN server and
the servers of names outside (public interface of miniupnpd, coturn, dnsmasq and iproute2)."""

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from eager_lantern.lab.kernel.lab import missing_means
from eager_lantern.live.own_process import SYSTEM_PATH, program

NAME = "tides.saltmarsh.example"
# addresses that nobody has been given, and that a router does not hold for made-up ones as it does those of RFC 5737
HOST, ROUTER, OUTSIDE, PUBLIC, OLD = "10.61.4.20", "10.61.4.1", "192.0.1.9", "192.0.1.61", "192.0.1.44"
BEFORE: dict[str, tuple[str, str]] = {"router": ("192.168.7.2", "192.168.7.1"), "carrier": ("100.64.0.2", "100.64.0.1")}
"""What may stand before the router: its own outside address then, and that of what stands there."""
UPNP = """
ext_ifname=out
listening_ip=in
enable_natpmp=yes
enable_upnp=yes
port={port}
secure_mode=yes
system_uptime=yes
uuid=00000000-0000-0000-0000-000000000061
upnp_table_name=mapped
upnp_nat_table_name=mapped
upnp_forward_chain=handed
upnp_nat_chain=inward
upnp_nat_postrouting_chain=outward
allow 1024-65535 10.61.4.0/24 1024-65535
deny 0-65535 0.0.0.0/0 0-65535
"""
PAGE_PORT = 5061


def lacking() -> str:
    """What this machine has not that the lab needs; empty where it has everything."""
    wanted = ("miniupnpd", "turnserver", "dnsmasq", "nft", "ip")
    missing = [each for each in wanted if program(each) is None]
    return missing_means() or (f"not there: {', '.join(missing)}" if missing else "")


class SurveyLab:
    """A host behind a router, and all that stands outside; ``before`` is what stands before the router."""

    def __init__(self, folder: Path, before: str = "") -> None:
        self._folder = folder
        self._names = {each: f"el{os.getpid()}{each}" for each in ("host", "router", "before", "outside")}
        self._running: list[subprocess.Popen[bytes]] = []
        self._before = before

    def on(self, node: str, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
        """A command on one of its hosts."""
        return subprocess.run(
            ["ip", "netns", "exec", self._names[node], *words],
            capture_output=True, text=True, timeout=90, check=False, env={**os.environ, "PATH": SYSTEM_PATH, **more},
        )  # fmt: skip

    def sh(self, node: str, script: str) -> None:
        """Lines for the shell of a host, all of which have to work."""
        done = self.on(node, "sh", "-ec", script)
        assert done.returncode == 0, done.stderr

    def start(self, node: str, *words: str) -> None:
        """A daemon on a host."""
        log = (self._folder / f"{words[0]}.log").open("wb")
        command = ["ip", "netns", "exec", self._names[node], *words]
        environment = {**os.environ, "PATH": SYSTEM_PATH}
        self._running.append(
            subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, env=environment)
        )

    def survey(self, *words: str) -> subprocess.CompletedProcess[str]:
        """The program, run on the host."""
        return self.on("host", sys.executable, "-m", "eager_lantern", "survey", *words)

    def build(self) -> None:
        """The hosts and the lines between them."""
        for each in self._names.values():
            subprocess.run(["ip", "netns", "add", each], check=True)
        self._line("host", "eth0", f"{HOST}/24", "router", "in", f"{ROUTER}/24")
        if self._before:
            own, its = BEFORE[self._before]
            self._line("router", "out", f"{own}/24", "before", "in", f"{its}/24")
            self._line("before", "out", f"{PUBLIC}/24", "outside", "eth0", f"{OUTSIDE}/24")
            self.sh("router", f"ip route add default via {its}")
        else:
            self._line("router", "out", f"{PUBLIC}/24", "outside", "eth0", f"{OUTSIDE}/24")
        self.sh("host", f"ip route add default via {ROUTER}")
        for each in ("router", "before"):
            self.sh(each, _TRANSLATES)

    def _line(self, one: str, side: str, address: str, other: str, its_side: str, its: str) -> None:
        a, b = self._names[one], self._names[other]
        words = ["ip", "link", "add", side, "netns", a, "type", "veth", "peer", "name", its_side, "netns", b]
        subprocess.run(words, check=True)
        for node, name, own in ((one, side, address), (other, its_side, its)):
            self.sh(node, f"ip link set lo up; ip link set {name} up; ip address add {own} dev {name}")

    def serve(self) -> None:
        """The daemons: the router's, and those outside."""
        if self._before:  # the real one keeps an address to itself that is not public; simpler ones tell it
            self.start("router", sys.executable, "-c", _STAND_IN.format(router=ROUTER, own=BEFORE[self._before][0]))
        else:
            (self._folder / "upnp").write_text(UPNP.format(port=PAGE_PORT))
            self.start("router", "miniupnpd", "-d", "-f", f"{self._folder}/upnp", "-P", f"{self._folder}/upnp.pid")
        self.start(
            "outside", "turnserver", "-n", "-S", "--no-cli", "--no-tls", "--no-dtls", "--log-file=stdout",
            f"--listening-ip={OUTSIDE}", "--listening-port=3478", f"--pidfile={self._folder / 'turn.pid'}",
        )  # fmt: skip
        self.names("outside", OUTSIDE, "--auth-server=ns.saltmarsh.example,eth0", "--auth-zone=saltmarsh.example",
                   f"--host-record={NAME},{PUBLIC},300", f"--host-record=ns.saltmarsh.example,{OUTSIDE}")  # fmt: skip
        self.waited("router", ROUTER, 5351, 1900)
        self.waited("outside", OUTSIDE, 53, 3478)

    def names(self, node: str, at: str, *words: str) -> None:
        """A server of names on a host."""
        self.start(
            node, "dnsmasq", "--keep-in-foreground", "--conf-file=/dev/null", "--no-resolv", "--no-hosts",
            "--user=root", "--bind-interfaces", f"--listen-address={at}", "--pid-file=", *words,
        )  # fmt: skip

    def waited(self, node: str, address: str, *ports: int) -> None:
        """Until something waits on these ports of a host, by udp or tcp."""
        for _ in range(200):
            there = self.on(node, "ss", "-Hltun").stdout
            if all(f":{port} " in there for port in ports):
                return
            time.sleep(0.05)
        raise AssertionError(f"nothing waits on {ports} of {address}: {there}{self._said()}")

    def _said(self) -> str:
        return "\n".join(each.read_text(errors="replace")[-800:] for each in self._folder.glob("*.log"))

    def end(self) -> None:
        """Everything away."""
        for each in self._running:
            each.kill()
            each.wait()
        for name in self._names.values():
            subprocess.run(["ip", "netns", "delete", name], check=False, capture_output=True)


_STAND_IN = """
import asyncio
from eager_lantern.core.values.addresses import Address
from eager_lantern.lab.servers.router import RouterSetup, StandInRouter

async def main():
    async with StandInRouter(RouterSetup("{router}", Address.parse("{own}"))):
        await asyncio.Event().wait()

asyncio.run(main())
"""
_TRANSLATES = """
sysctl -qw net.ipv4.ip_forward=1
nft -f - <<END
table ip nat {
  chain postrouting { type nat hook postrouting priority 100; oifname "out" masquerade; }
}
table inet mapped {
  chain forward { type filter hook forward priority 0; jump handed; }
  chain prerouting { type nat hook prerouting priority -100; jump inward; }
  chain postrouting { type nat hook postrouting priority 100; jump outward; }
  chain handed { }
  chain inward { }
  chain outward { }
}
END
"""


@contextmanager
def survey_lab(folder: Path, before: str = "") -> Iterator[SurveyLab]:
    """A lab with its daemons, and away with it."""
    lab = SurveyLab(folder, before)
    try:
        lab.build()
        lab.serve()
        yield lab
    finally:
        lab.end()
