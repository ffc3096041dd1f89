"""Many promises in one site: growth with their number, and what long filters add.

A server behind two gateways that forward to each other, and clients on networks of the internet,
each with an address of its own and a promise. Printed are the time for 400 promises over that for
100 (linear is 4), and for 1,000 promises where each filter has 300 rules over that for the same
promises with short filters. Exit code 1 when 400 take 6 times as long as 100, or long filters 20
times as long as short ones, or more.
"""

import statistics
import sys
import time
from collections.abc import Iterator

from eager_lantern.core.model.site import Site
from eager_lantern.core.verdict import judge
from eager_lantern.formats.site.site_file import parse_site

MOST_GROWTH, MOST_MORE, HABITS, ROUNDS = 6, 20, 4, 7
HEAD = """lantern: 1
site: Many Promises
server: {name: gauge-store, network: quay-net, address: 10.61.4.20, filter: {incoming: {default: deny, rules: *own}}}
networks:
  - {name: quay-net, subnet: 10.61.4.0/24}
  - {name: yard-net, subnet: 10.61.3.0/24}
gateways:
  - name: harbour-router
    outside: {network: internet, address: 198.51.100.61}
    inside: {network: yard-net, address: 10.61.3.1}
    translate: outward
    forwards: [{ports: 21, to: 10.61.3.2}, {ports: 61200-61455, to: 10.61.3.2}]
    filter: {inward: {default: deny, rules: *own}}
    forwards_pass_filter: false
  - name: yard-router
    outside: {network: yard-net, address: 10.61.3.2}
    inside: {network: quay-net, address: 10.61.4.1}
    translate: outward
    forwards: [{ports: 21, to: 10.61.4.20}, {ports: 61200-61455, to: 10.61.4.20}]
    filter: {inward: {default: deny, rules: *own}}
    forwards_pass_filter: false
services:
  - {name: tide-exchange, protocol: ftp, control_port: 21, passive: {ports: 61200-61455, announce: 198.51.100.61}}
names: [{name: tides.saltmarsh.example, addresses: 198.51.100.61}]
"""


def rules(many: int) -> Iterator[str]:
    yield "{action: allow, ports: 21}"
    yield "{action: allow, ports: 61200-61455}"
    for i in range(many):
        yield f"{{action: deny, ports: {1024 + i * 7 % 30_000}, from: 203.0.{i % 113}.{i % 256}/32}}"


def site_of(promises: int, many_rules: int) -> Site:
    text = HEAD.replace("*own", f"[{', '.join(rules(many_rules))}]")
    clients, wanted = ["clients:"], ["promises:"]
    for i in range(promises):
        extended = "true" if i % HABITS == 1 else "false"
        trusts = "false" if i % HABITS == 2 else "true"
        address = f"203.0.{113 + i // 250}.{1 + i % 250}"
        clients.append(
            f"  - {{name: station-{i}, network: internet, address: {address}, reaches: tides.saltmarsh.example,"
            f" uses_epsv: {extended}, trusts_announced: {trusts}}}"
        )
        wanted.append(f"  - {{client: station-{i}, service: tide-exchange, mode: passive}}")
    return parse_site("many.site.yaml", text + "\n".join([*clients, *wanted]) + "\n").site


def seconds(site: Site) -> float:
    started = time.process_time()  # others on the machine do not count
    verdict = judge(site)
    assert all(each.kept for each in verdict.forecasts)
    return time.process_time() - started


def main() -> int:
    # in turn, and the median of the ratios: a machine that slows down meanwhile does not count
    pairs = [(seconds(site_of(100, 0)), seconds(site_of(400, 0))) for _ in range(ROUNDS)]
    few, many = (statistics.median(each) for each in zip(*pairs, strict=True))
    growth = statistics.median(many / few for few, many in pairs)
    short, long = (seconds(site_of(1_000, count)) for count in (0, 300))
    print(f"100 promises           {few:6.2f} s")
    print(f"400 promises           {many:6.2f} s   {growth:.2f} times as long (below {MOST_GROWTH})")
    print(f"1,000 promises         {short:6.2f} s")
    print(f"with 300 rules a filter{long:6.2f} s   {long / short:.2f} times as long (below {MOST_MORE})")
    return int(growth >= MOST_GROWTH or long / short >= MOST_MORE)


if __name__ == "__main__":
    sys.exit(main())
