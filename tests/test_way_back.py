"""Rules that are loaded with a way back: a lock-out heals itself, and what is confirmed stays."""

import os
import subprocess
import sys
import time
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


def written(folder: Path) -> None:
    """The rule files and loaders of two servers, one that lets nobody in and one that lets in by port 22, and the rules
    from before."""
    for name, rule in {"shut": "", "open": "{action: allow, protocol: tcp, ports: 22}"}.items():
        filters = f"{{incoming: {{default: deny, rules: [{rule}]}}}}"
        server = f"{{name: {name}, network: internet, address: 198.51.100.20, system: linux, filter: {filters}}}"
        for each in files_of(parse_site("pier", f"lantern: 1\nsite: Pier\nserver: {server}\n").site):
            (folder / each.name).write_text(each.text)
    (folder / "before.nft").write_text(
        "table inet eager_lantern {\nset mine { type ipv4_addr; }\n}\ntable ip other {\n}\n"
    )


def test_rules_that_lock_out_go_by_themselves_and_confirmed_ones_stay(tmp_path: Path) -> None:
    written(tmp_path)
    for name, text in {"story.sh": STORY, "serves.py": SERVES, "knocks.py": KNOCKS}.items():
        (tmp_path / name).write_text(text)
    words = [*PRIVATE, "sh", "story.sh", sys.executable]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, timeout=250)
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.splitlines() == [
        "locked out", "as before", "let in again", "one at a time", "nothing waits", "1", "taken back",
    ]  # fmt: skip


SHORT_STORY = """
cd "$(dirname "$0")"
waits_for() { read -r kind _ < /run/eager-lantern/waits; echo "$kind"; }
nft -f before.nft
nft list table inet eager_lantern > were.txt
sh shut.load.sh try 3s > /dev/null && waits_for
while [ -e /run/eager-lantern/waits ]; do sleep 0.2; done
nft list table inet eager_lantern | cmp - were.txt && echo "as before"
passes
sh open.load.sh try 600s > /dev/null && waits_for && listed | grep -c .
is_due || echo "too soon"
sh open.load.sh keep > /dev/null
listed | grep -c . || nft list table inet eager_lantern | grep -c "dport 22 accept"
echo ended
"""
WAITING = {
    "systemd": """listed() { systemctl list-timers --all --no-legend "eager-lantern*"; }
passes() { :; }
is_due() { :; }
""",
    "at": """listed() { atq; }
passes() { sleep 7; }
is_due() { due=$(atq | cut -f2 | sed 's/ [a-z] [a-z]*$//'); [ $(($(date -d "$due" +%s) - $(date +%s))) -gt 595 ]; }
""",
}
"""What waits for its time, by what it is left to (public interface of systemd and of at)."""
BOOTS = """
set -eu
mount --make-rprivate /
mount -t proc proc /proc
mount -t tmpfs none /run
mount -t tmpfs none /lib/systemd/system
mount -t tmpfs none /etc/systemd/system
for each in sysinit basic shutdown umount final exit; do
  printf '[Unit]\\nDefaultDependencies=no\\n' > /lib/systemd/system/$each.target
done
cat > /lib/systemd/system/story.service <<UNIT
[Unit]
DefaultDependencies=no
[Service]
Type=oneshot
ExecStart=/bin/sh $PWD/story.sh
StandardOutput=file:$PWD/out
StandardError=file:$PWD/out
UNIT
container=lantern exec /lib/systemd/systemd --system --unit=story.service --show-status=no
"""
SPOOLS = """
set -eu
mount --make-rprivate /
mount -t proc proc /proc
mount -t tmpfs none /run
mount -t tmpfs none /var/spool/cron
mkdir -p /var/spool/cron/atjobs /var/spool/cron/atspool
chown -R daemon:daemon /var/spool/cron
touch /var/spool/cron/atjobs/.SEQ
chown daemon:daemon /var/spool/cron/atjobs/.SEQ
atd
exec sh story.sh > out 2>&1
"""


@pytest.mark.skipif(os.name != "posix" or os.geteuid() != 0, reason="needs root: a first process of its own")
@pytest.mark.parametrize(
    ("waits", "begins", "program"),
    [
        ("systemd", BOOTS, "/lib/systemd/systemd"),
        pytest.param("at", SPOOLS, "/usr/sbin/atd", marks=pytest.mark.sweep),  # it counts whole minutes
    ],
)
def test_the_way_back_is_left_to_what_the_system_has_for_it(
    waits: str, begins: str, program: str, tmp_path: Path
) -> None:
    if not Path(program).exists():
        pytest.skip(f"{program} is missing")
    tmp_path.chmod(0o755)
    written(tmp_path)
    (tmp_path / "story.sh").write_text(WAITING[waits] + SHORT_STORY)
    (tmp_path / "begin.sh").write_text(begins)
    alone = ["unshare", "--mount", "--pid", "--fork", "--kill-child", "--net", "--uts", "--ipc", "--cgroup"]
    with (tmp_path / "log").open("w") as log:
        running = subprocess.Popen([*alone, "sh", "begin.sh"], cwd=tmp_path, stdout=log, stderr=log)
    told: list[str] = []
    try:
        until = time.monotonic() + 240
        while "ended" not in told and time.monotonic() < until:
            time.sleep(0.2)
            told = (tmp_path / "out").read_text().splitlines() if (tmp_path / "out").exists() else []
    finally:
        running.kill()
        running.wait()
    assert told == [waits, "as before", waits, "1", "0", "1", "ended"], (tmp_path / "log").read_text()
