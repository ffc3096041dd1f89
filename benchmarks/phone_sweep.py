"""A sweep of 256 lit ports by a phone's page in a headless Chromium, from the button to the end, against the command
``visit --lamp`` of the same ports, in one run. Both take turns; the median of the ratios of neighbours counts."""

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from browser import CHROMIUM, Browser

FIRST, COUNT, ROUNDS, LIMIT = 28_300, 256, 5, 5.0
SECRET = "flood-and-ebb-tide-61"
SITE: dict[str, Any] = {
    "lantern": 1, "site": "Quay", "server": {"name": "store", "network": "quay", "address": "127.0.0.1"},
    "networks": [{"name": "quay", "subnet": "127.0.0.0/8"}],
    "services": [{"name": "tides", "protocol": "ftp", "control_port": FIRST,
                  "passive": {"ports": f"{FIRST + 1}-{FIRST + COUNT - 1}"}}],
    "clients": [{"name": "here", "network": "quay", "address": "127.0.0.2", "reaches": "127.0.0.1"}],
    "promises": [{"client": "here", "service": "tides", "mode": "passive"}],
}  # fmt: skip
OURS = [sys.executable, "-m", "eager_lantern"]


def by_command(site: Path) -> float:
    """Seconds of the whole command."""
    started = time.perf_counter()
    subprocess.run([*OURS, "visit", str(site), "--lamp"], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - started


def by_page(phone: Browser) -> float:
    """Seconds from the button to the end, as the page has it."""
    seconds: float = phone.value(
        """new Promise(done => {
            const page = document.documentElement, began = performance.now();
            delete page.dataset.through;
            new MutationObserver(() => done((performance.now() - began) / 1000))
                .observe(page, {attributes: true, attributeFilter: ["data-through"]});
            document.getElementById("start").click();
        })"""
    )
    assert phone.value("document.getElementById('verdict').innerText") == f"● All {COUNT} ports that were tried arrive"
    return seconds


def main() -> int:
    if CHROMIUM is None:
        print("chromium is missing: nothing was measured")
        return 0
    os.environ["EAGER_LANTERN_LAMP"] = SECRET
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        site = Path(folder) / "quay.site.yaml"
        site.write_text(json.dumps(SITE))
        words = ["lamp", str(site), "--phone", "--client", "here", "--format", "json", "--lasts", "5 min"]
        with subprocess.Popen([*OURS, *words], stdout=subprocess.PIPE, text=True) as lamp:
            assert lamp.stdout is not None
            lamp.stdout.readline()
            address = json.loads(lamp.stdout.readline())["addresses"][0]
            with Browser(Path(folder) / "profile") as phone:
                assert phone.opens(address)
                pairs = [(by_page(phone), by_command(site)) for _ in range(ROUNDS)]
            lamp.terminate()
    ours, theirs = (statistics.median(each) for each in zip(*pairs, strict=True))
    ratio = statistics.median(page / command for page, command in pairs)
    print(f"page of a phone, {COUNT} ports   {ours:.2f} s")
    print(f"visit --lamp                {theirs:.2f} s")
    print(f"ratio                       {ratio:.2f} (at most {LIMIT:g})")
    return int(ratio > LIMIT)


if __name__ == "__main__":
    raise SystemExit(main())
