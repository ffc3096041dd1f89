"""Somebody with a phone in a host of the kernel lab: opens the address that a lamp has shown, presses the button,
knocks at the control port, and writes down what the page shows.

    phone_player.py LAMP-LOG RESULT KNOCK-AT PORT
"""

import json
import re
import socket
import sys
import tempfile
import time
from pathlib import Path

from browser import Browser

ADDRESS = re.compile(r"http://\S+/[a-z2-7]{26}")
THROUGH = "document.documentElement.dataset.through"
ROW = """Object.fromEntries([...document.querySelectorAll("#ledger tr.ports")].map(
    row => [row.className.split(" ")[0], row.innerText.trim()]))"""


def shown(log: Path) -> str:
    """The first address in the words of a lamp, once it is there."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        if found := ADDRESS.search(log.read_text(errors="replace")):
            return found[0]
        time.sleep(0.1)
    raise AssertionError("no address was shown")


def main(log: str, result: str, knock_at: str, port: str) -> None:
    address = shown(Path(log))
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile, Browser(Path(profile)) as phone:
        found: dict[str, object] = {"address": address, "opens": phone.opens(address)}
        phone.value("document.getElementById('start').click()")
        phone.waits(THROUGH)
        found |= {"rows": phone.value(ROW), "text": phone.value("document.body.innerText")}
        with socket.create_connection((knock_at, int(port)), timeout=10):
            phone.waits("document.getElementById('knock').innerText.startsWith('●')")
        found["reused"] = phone.opens(address)
    Path(result).write_text(json.dumps(found))


if __name__ == "__main__":
    main(*sys.argv[1:])
