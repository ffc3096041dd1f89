"""How long `adopt` of a rule set of 10,000 rules takes, beside the kernel's own command that lists it, and libraries.

The whole command is timed, with its comparison, the proof of the new file and the patch; beside it a program that only
loads the libraries, decodes the listing and reads the new file as YAML. They take turns, so that all see the same
machine, and the fastest turn of each counts. The exit code is 1 above 2.5 times the libraries. How long the kernel's
command takes beside Python differs by half from machine to machine: that ratio is printed, and so is the reading alone.
"""

import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from eager_lantern.formats.devices.packet_filter.host import read_ruleset

RULES, ROUNDS, LIMIT = 10_000, 5, 2.5
SITE = """lantern: 1
site: Border
networks: [{name: office, subnet: 10.61.4.0/24}]
server:
  name: store
  network: office
  address: 10.61.4.20
  filter:
    incoming:
      default: deny
      rules:
        - {action: allow, protocol: tcp, ports: 22}
"""
LISTS = "nft -f rules.nft; while read -r _; do nft -j list ruleset >list; echo listed; done"

LIBRARIES = """
import msgspec, rich.table, typer, yaml
msgspec.json.decode(open("list", "rb").read())
yaml.load(open("adopted.site.yaml", "rb"), Loader=yaml.CSafeLoader)
"""


def ruleset() -> str:
    """So many rules for what arrives, no two alike."""
    lines = (
        f"ip saddr 10.{i // 250}.{i % 250}.0/24 tcp dport {1000 + i % 5000} {'accept' if i % 3 else 'drop'}"
        for i in range(RULES)
    )
    body = "\n".join(lines)
    return f"table inet harbour {{ chain arriving {{ type filter hook input priority 0; policy drop;\n{body}\n}}\n}}\n"


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "rules.nft").write_text(ruleset())
        (folder / "border.site.yaml").write_text(SITE)
        words = ["unshare", "-n", "sh", "-ec", LISTS]
        with subprocess.Popen(words, cwd=name, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as shell:
            _listing(shell)  # loads the rules first
            shutil.copy(folder / "border.site.yaml", folder / "adopted.site.yaml")
            _adopt(name, "adopted.site.yaml", "--write")
            turns = (lambda: _listing(shell), lambda: _adopt(name, "border.site.yaml"), lambda: _libraries(name))
            taken = [[_seconds(turn) for turn in turns] for _ in range(ROUNDS)]
        text = (folder / "list").read_text()
        reading = min(_seconds(lambda: _reading(text)) for _ in range(ROUNDS))
    listing, whole, libraries = (min(each) for each in zip(*taken, strict=True))
    print(f"{RULES:,} rules listed by nft in {listing:.2f} s, read in {reading:.2f} s: ratio {reading / listing:.2f}")
    print(f"the whole of adopt, with comparison, proof and patch: {whole:.1f} s, ratio {whole / listing:.2f}")
    print(f"libraries alone {libraries:.2f} s: ratio {whole / libraries:.2f} (at most {LIMIT})")
    return int(whole / libraries > LIMIT)


def _seconds(work: Callable[[], None]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _listing(shell: "subprocess.Popen[str]") -> None:
    assert shell.stdin is not None
    assert shell.stdout is not None
    shell.stdin.write("\n")
    shell.stdin.flush()
    assert shell.stdout.readline() == "listed\n"


def _adopt(folder: str, *words: str) -> None:
    words = (sys.executable, "-m", "eager_lantern", "adopt", *words, "list", "--device", "store")
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=False)
    assert f"{RULES:,} rules" in done.stdout, done.stderr


def _libraries(folder: str) -> None:
    subprocess.run([sys.executable, "-c", LIBRARIES], cwd=folder, check=True)


def _reading(text: str) -> None:
    assert len(read_ruleset("list", text, "in")[0].values) == RULES


if __name__ == "__main__":
    sys.exit(main())
