"""How long it takes to read a site with 10,000 filter rules, beside a pure YAML composer on the same text.

The ratio says how many times faster reading (parse, validate, check references) is than only
composing the YAML in pure Python.
"""

import time
from collections.abc import Callable
from pathlib import Path

import yaml

from eager_lantern import __file__ as package
from eager_lantern.formats.site.site_file import parse_site

RULES = 10_000
SITE = Path(package).parent / "data" / "saltmarsh-after.site.yaml"


def large_site() -> str:
    """The demo site with many more rules on the host."""
    rule = "        - {{name: r{0}, action: deny, protocol: tcp, ports: {1}-{2}, from: 192.0.2.0/24}}\n"
    rules = "".join(rule.format(i, 1 + i, 9 + i) for i in range(RULES))
    return SITE.read_text().replace("        - {name: control, action", rules + "        - {name: control, action", 1)


def seconds(action: Callable[[], object]) -> float:
    started = time.perf_counter()
    action()
    return time.perf_counter() - started


def main() -> None:
    text = large_site()
    read = min(seconds(lambda: parse_site("large.site.yaml", text)) for _ in range(3))
    pure = seconds(lambda: yaml.compose(text, Loader=yaml.BaseLoader))
    print(f"reading {RULES} rules        {read:6.2f} s (best of 3)")
    print(f"composing in pure Python {pure:6.2f} s")
    print(f"ratio                    {pure / read:6.1f} times faster")


if __name__ == "__main__":
    main()
