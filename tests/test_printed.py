"""What real programs printed (public interface of those), held against what they do: nothing is read wrongly."""

import json
import tarfile
from collections import Counter
from pathlib import Path

import pytest
from printed import Judged, judged, site_of

from eager_lantern.formats import damage
from eager_lantern.formats.devices.cells import read_device_text
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import read_files
from eager_lantern.formats.reading import BadInput

RECORDED = Path(__file__).parent / "cases" / "printed.tar.xz"
with tarfile.open(RECORDED) as archive:
    FOLDERS = sorted({name.split("/")[0] for name in archive.getnames()})
NOT_IN_THE_FILE = {
    "console-edit-form.txt": {
        "in 10.61.4.77 → 10.61.4.20 tcp 22": "its row for a group was left out when it was copied"
    },
    "portal-inbound.csv": {"in 198.51.100.1 → 10.61.4.20 udp 500": "the portal shows no port of the sender"},
    **{
        f"rules{ending}": {"in 198.51.100.7 → 192.0.2.10 tcp 445": "no rule is about it in this profile: it is blocked"}
        for ending in (".csv", "-numbers.json", "-semicolon.csv", "-words.json")
    },
}
"""Points of the truth that a file cannot hold, with the reason."""


@pytest.fixture(scope="module")
def recorded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("printed")
    with tarfile.open(RECORDED) as archive:
        archive.extractall(folder, filter="data")
    return folder


def wrong(found: Judged) -> list[str]:
    known = NOT_IN_THE_FILE.get(found.file, {})
    return [what for state, what in found.points if state == "wrong" and what.partition(":")[0] not in known]


@pytest.mark.parametrize("name", FOLDERS)
def test_what_a_program_printed_is_read_as_it_acts_or_is_unknown(name: str, recorded: Path) -> None:
    for each in judged(recorded / name):
        assert (each.file, wrong(each)) == (each.file, [])


KNOWN_SHARES = {
    "router-german": 1.0, "router-merged-header": 1.0, "router-start-end": 1.0, "cloud-a-group": 0.9,
    "cloud-b-nsg": 0.8, "windows-netsh-en": 1.0, "windows-get-netfirewallrule": 0.95, "firewalld-host-public": 0.6,
    "ufw-apps-ipv6": 0.4, "server-vsftpd-nat-tls": 1.0,
    "listeners-linux": 1.0, "listeners-netstat-windows": 1.0, "export-uci": 0.99,
}  # fmt: skip
"""Of the points of these folders at least this share was read, and not left unknown, in files that are read at all."""


@pytest.mark.parametrize(("name", "share"), KNOWN_SHARES.items())
def test_most_of_what_a_file_states_is_known(name: str, share: float, recorded: Path) -> None:
    count = Counter(state for each in judged(recorded / name) for state, _ in each.points)
    assert count["right"] / count.total() >= share, count


@pytest.mark.parametrize("name", FOLDERS)
def test_a_file_that_ends_anywhere_is_read_or_refused(
    name: str, recorded: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As it is when less of it was copied than was shown; a reader that waits for the end of a block must not wait."""
    monkeypatch.setattr(damage, "SECONDS", 30.0)
    refusals = []
    truth = json.loads((recorded / name / "truth.json").read_text())
    target = DeviceTarget(site_of(truth, ""), "router" if truth["shape"] == "gateway" else "tide")
    for file in (each for each in (recorded / name).rglob("*") if each.is_file() and each.suffix != ".json"):
        lines = read_device_text(file).splitlines(keepends=True)
        for end in {len(lines) * part // 8 for part in range(1, 8)}:
            try:
                read_files({file.name: "".join(lines[:end])}, target)
            except BadInput as refused:
                refusals.append(str(refused))
    assert [each for each in refusals if "found no end of it" in each] == []
