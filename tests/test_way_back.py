"""Rules that are loaded with a way back: a lock-out heals itself, and what is confirmed stays."""

import subprocess
import sys
from pathlib import Path

import pytest

from eager_lantern.formats.devices.register import files_of
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.lab import missing_means

LACK = missing_means()
pytestmark = [pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]

PRIVATE = [
    "unshare",
    "--user",
    "--map-root-user",
    "--net",
    "--mount",
    "--pid",
    "--fork",
    "--kill-child",
    "--mount-proc",
]
SERVES = "import socket\nwaits = socket.create_server(('10.61.4.20', 22))\nwhile True:\n    waits.accept()[0].close()\n"
KNOCKS = "import socket, sys\nsocket.create_connection(('10.61.4.20', 22), float(sys.argv[1])).close()\n"
STORY = """
set -eu
mount -t tmpfs none /run
unshare --net sleep 1000 & desk=$!
until [ "$(readlink /proc/$desk/ns/net)" != "$(readlink /proc/self/ns/net)" ]; do sleep 0.1; done
ip link add eth0 type veth peer name desk0
ip link set desk0 netns $desk
ip addr add 10.61.4.20/24 dev eth0
ip link set eth0 up
nsenter -t $desk -n ip addr add 10.61.4.90/24 dev desk0
nsenter -t $desk -n ip link set desk0 up
"$1" serves.py &
knocks() { nsenter -t $desk -n "$1" knocks.py "$2" 2>&-; }
until knocks "$1" 5; do sleep 0.1; done
nft -f before.nft
nft list table inet eager_lantern > were.txt

sh shut.load.sh try 3s > /dev/null
knocks "$1" 1 || echo "locked out"
while [ -e /run/eager-lantern/waits ]; do sleep 0.2; done
nft list table inet eager_lantern | cmp - were.txt && echo "as before"
knocks "$1" 20 && echo "let in again"

sh open.load.sh try 600s > /dev/null
sh open.load.sh try 600s 2> /dev/null || echo "one at a time"
read -r kind waits < /run/eager-lantern/waits
kill -0 "$waits" && knocks "$1" 20 && sh open.load.sh keep > /dev/null
while kill -0 "$waits" 2>&-; do sleep 0.1; done; echo "nothing waits"
nft list table inet eager_lantern | grep -c "dport 22 accept"
sh open.load.sh back > /dev/null
nft list table inet eager_lantern | cmp - were.txt && nft list table ip other > /dev/null && echo "taken back"
"""


def test_rules_that_lock_out_go_by_themselves_and_confirmed_ones_stay(tmp_path: Path) -> None:
    for name, rule in {"shut": "", "open": "{action: allow, protocol: tcp, ports: 22}"}.items():
        filters = f"{{incoming: {{default: deny, rules: [{rule}]}}}}"
        server = f"{{name: {name}, network: internet, address: 198.51.100.20, system: linux, filter: {filters}}}"
        for each in files_of(parse_site("pier", f"lantern: 1\nsite: Pier\nserver: {server}\n").site):
            (tmp_path / each.name).write_text(each.text)
    own = "table inet eager_lantern {\nset mine { type ipv4_addr; }\n}\ntable ip other {\n}\n"
    for name, text in {"before.nft": own, "story.sh": STORY, "serves.py": SERVES, "knocks.py": KNOCKS}.items():
        (tmp_path / name).write_text(text)
    words = [*PRIVATE, "sh", "story.sh", sys.executable]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, timeout=250)
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.splitlines() == [
        "locked out", "as before", "let in again", "one at a time", "nothing waits", "1", "taken back",
    ]  # fmt: skip
