"""Files written by the program: whole or as before, with all that belongs to them, and no change of others lost."""

import contextlib
import errno
import os
import random
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from program import BEFORE, run

from eager_lantern.formats import writing as atomic_write
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.site.yaml_tree import read_text
from eager_lantern.formats.writing import CHANGED, StagedFile, remove_stale, rewrite, write, write_new

linux = pytest.mark.skipif(sys.platform != "linux", reason="needs what files of Linux have")
root = pytest.mark.skipif(sys.platform != "linux" or os.getuid() != 0, reason="needs root, to give a file away")
ACL = bytes.fromhex("0200000001000600ffffffff02000600fffe000004000400ffffffff10000600ffffffff20000000ffffffff")
"""An access list that lets one user more read and write (acl(5), as the kernel keeps it)."""


@pytest.fixture
def site(tmp_path: Path) -> Path:
    return Path(shutil.copy(BEFORE, tmp_path / "pier.site.yaml"))


def mended(path: Path) -> bool:
    """Whether `mend --write` says that it has written, and the file keeps its promises by now."""
    return run("mend", path, "--write").returncode == 0 and run("check", path).returncode == 0


@linux
@root
@pytest.mark.parametrize("mode", [0o600, 0o640, 0o664])
def test_owner_group_and_mode_of_a_site_file_stay(mode: int, site: Path) -> None:
    os.chown(site, 4321, 4322)
    site.chmod(mode)
    assert mended(site)
    found = site.stat()
    assert (found.st_uid, found.st_gid, stat.S_IMODE(found.st_mode)) == (4321, 4322, mode)


@linux
@root
def test_what_cannot_be_kept_is_refused_and_nothing_is_written() -> None:
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o777)
        site = Path(shutil.copy(BEFORE, Path(name) / "pier.site.yaml"))
        os.chown(site, 4321, 4322)
        site.chmod(0o666)
        os.setegid(4999)
        os.seteuid(4999)
        try:
            with pytest.raises(BadInput, match="found a file of user 4321, group 4322"):
                rewrite(site, read_text(site), "lantern: 1\n")
        finally:
            os.seteuid(0)
            os.setegid(0)
        assert (site.read_bytes(), [each.name for each in Path(name).iterdir()]) == (BEFORE.read_bytes(), [site.name])


@linux
def test_an_access_list_and_attributes_stay(site: Path) -> None:
    try:
        os.setxattr(site, "system.posix_acl_access", ACL)
        os.setxattr(site, "user.tides", b"ebb")
    except OSError as error:
        pytest.skip(f"this file system has none: {error}")
    before = {name: os.getxattr(site, name) for name in os.listxattr(site)}
    assert mended(site)
    assert {name: os.getxattr(site, name) for name in os.listxattr(site)} == before


@pytest.mark.skipif(sys.platform == "win32", reason="needs symbolic links")
def test_a_symbolic_link_stays_one_and_the_file_that_it_leads_to_is_written(site: Path) -> None:
    real = site.rename(site.parent / "kept.yaml")
    site.symlink_to(real.name)
    assert mended(site)
    assert (site.is_symlink(), real.is_symlink()) == (True, False)


@pytest.mark.skipif(sys.platform == "win32", reason="needs hard links")
def test_a_file_of_two_names_is_not_parted(site: Path) -> None:
    os.link(site, site.with_name("other.yaml"))
    before = site.read_bytes()
    done = run("mend", site, "--write")
    assert (done.returncode, "found 2 names of it (hard links)" in done.stderr) == (2, True)
    assert site.read_bytes() == before


def test_the_mark_at_the_beginning_of_a_file_and_its_line_ends_stay(site: Path) -> None:
    site.write_bytes(b"\xef\xbb\xbf" + site.read_bytes().replace(b"\n", b"\r\n"))
    assert mended(site)
    found = site.read_bytes()
    assert found.startswith(b"\xef\xbb\xbf")
    assert found.count(b"\r\n") == found.count(b"\n")


@pytest.mark.skipif(sys.platform == "win32", reason="needs a device that is a file")
def test_a_device_is_not_replaced_by_a_file_and_neither_is_a_link_to_nowhere(tmp_path: Path) -> None:
    (tmp_path / "link").symlink_to("nowhere")
    for path, why in ((Path("/dev/null"), "no regular file"), (tmp_path / "link", "leads nowhere")):
        with pytest.raises(BadInput, match=why):
            write({path: b"x"}, force=True)
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)


def test_a_text_that_is_not_what_was_read_any_more_is_left(site: Path) -> None:
    text = read_text(site)
    site.write_text(text + "# saved meanwhile\n")
    with pytest.raises(BadInput, match="expected no change meanwhile: run it again"):
        rewrite(site, text, "lantern: 1\n")
    assert site.read_text() == text + "# saved meanwhile\n"


def test_a_file_that_another_one_has_replaced_is_left(site: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same text in another file: who renamed it there may be about to write to it."""
    text, content = read_text(site), atomic_write._content

    def replaced(handle: int) -> bytes:
        found = content(handle)
        site.unlink()
        site.write_text(text)
        return found

    monkeypatch.setattr(atomic_write, "_content", replaced)
    with pytest.raises(BadInput, match="expected no change meanwhile"):
        rewrite(site, text, "lantern: 1\n")
    assert site.read_text() == text


@pytest.mark.skipif(sys.platform == "win32", reason="a file that is open is not replaced there")
def test_what_is_written_to_the_old_file_while_it_is_exchanged_comes_back(
    site: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    text, replace = read_text(site), StagedFile.replace
    theirs = site.open("a")

    def meanwhile(staged: StagedFile) -> None:
        replace(staged)
        theirs.write("# saved meanwhile\n")
        theirs.close()
        monkeypatch.setattr(StagedFile, "replace", replace)

    monkeypatch.setattr(StagedFile, "replace", meanwhile)
    with pytest.raises(BadInput, match="expected no change meanwhile"):
        rewrite(site, text, "lantern: 1\n")
    assert site.read_text() == text + "# saved meanwhile\n"


def test_of_many_writers_none_loses_the_line_of_another(tmp_path: Path) -> None:
    shared = tmp_path / "shared.yaml"
    shared.write_text("")

    def added(number: int) -> int:
        refused = 0
        while True:
            text = read_text(shared)
            with contextlib.suppress(BadInput):
                rewrite(shared, text, f"{text}{number}\n")
                return refused
            refused += 1

    with ThreadPoolExecutor(8) as pool:
        refused = sum(pool.map(added, range(200)))
    assert sorted(map(int, shared.read_text().split())) == list(range(200))
    assert refused  # else they never met


REWRITES = """
import sys
from pathlib import Path
from eager_lantern.formats.writing import rewrite
from eager_lantern.formats.site.yaml_tree import read_text
path = Path(sys.argv[1])
print(flush=True)
while True:
    text = read_text(path)
    rewrite(path, text, "b" * 200_000 if text[0] == "a" else "a" * 300_000)
"""


@pytest.mark.skipif(sys.platform == "win32", reason="needs signals")
def test_a_writer_that_is_killed_leaves_the_old_or_the_new_text_and_the_next_one_finds_nothing_else(
    tmp_path: Path,
) -> None:
    path, chance = tmp_path / "pier.site.yaml", random.Random(61)
    path.write_text("a" * 300_000)
    for _ in range(25):
        writer = subprocess.Popen([sys.executable, "-c", REWRITES, path], stdout=subprocess.PIPE)
        assert writer.stdout is not None
        writer.stdout.readline()
        time.sleep(chance.uniform(0, 0.05))
        writer.send_signal(signal.SIGKILL)
        writer.wait()
        writer.stdout.close()
        assert path.read_text() in ("a" * 300_000, "b" * 200_000)
        remove_stale(tmp_path)
        assert [each.name for each in tmp_path.iterdir()] == [path.name]


@linux
def test_a_file_system_without_files_that_have_no_name_will_do(site: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    whole = os.open

    def refusing(path: str, flags: int, *more: int) -> int:
        if flags & os.O_TMPFILE == os.O_TMPFILE:
            raise OSError(errno.EOPNOTSUPP, "not here")
        return whole(path, flags, *more)

    monkeypatch.setattr(os, "open", refusing)
    rewrite(site, read_text(site), "lantern: 1\n")
    write_new({site.with_name("new"): b"2"})
    assert {each.name: each.read_text() for each in site.parent.iterdir()} == {site.name: "lantern: 1\n", "new": "2"}


def test_several_new_files_are_there_together_or_not_at_all(tmp_path: Path) -> None:
    there = tmp_path / "b"
    there.write_text("kept")
    with pytest.raises(BadInput, match="found a file of that name"):
        write_new({tmp_path / "a": b"1", there: b"2"})
    assert [(each.name, each.read_text()) for each in tmp_path.iterdir()] == [("b", "kept")]


@pytest.mark.parametrize("name", ["mend", "adopt"])
def test_a_file_that_is_saved_while_the_command_computes_is_left(name: str, site: Path) -> None:
    """The command is held at the place where it has computed and is about to write."""
    table = Path(__file__).parent / "cases" / "forwards.csv"
    words = ["adopt", str(site), str(table), "--device", "harbour-router"] if name == "adopt" else ["mend", str(site)]
    held = f"""
import sys
import eager_lantern.cli.{name} as command
from eager_lantern.__main__ import run
whole = command.rewrite
def late(path, before, after):
    path.write_text(before + "# saved meanwhile\\n")
    whole(path, before, after)
command.rewrite = late
sys.argv = ["eager-lantern", *{words!r}, "--write"]
run()
"""
    done = subprocess.run([sys.executable, "-c", held], capture_output=True, text=True, timeout=180)
    assert (done.returncode, done.stderr) == (
        2,
        f"{site}: {CHANGED}\n",
    )
    assert site.read_text() == BEFORE.read_text() + "# saved meanwhile\n"


def test_a_result_that_replaces_another_keeps_its_mode(tmp_path: Path) -> None:
    kept = tmp_path / "size.json"
    kept.write_text("")
    kept.chmod(0o600)
    done = run("adopt", Path(__file__).parent / "cases" / "kept-survey.json", "--save", kept, "--force")
    assert done.returncode in (0, 1, 3), done.stderr
    assert kept.read_text()
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600
