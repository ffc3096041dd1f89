"""Writing files: whole or not at all, nothing overwritten unasked, no change by somebody else lost.

Theory: what a step may leave behind
====================================
A name leads to a file (an inode), and only names can be exchanged in one step. So a new content is written to a
file without a name (O_TMPFILE, where the system has it): a process that is killed meanwhile leaves nothing. It gets
its name by ``link``, which fails where something stands there already. In place of an old file it gets a name beside
it, and takes the old one's by ``rename``; a process that is killed between these two calls leaves the name beside,
which carries its number, and which the next write into that folder takes away.

A file that takes another's place is another file: it has an owner, a mode, an access list and attributes of its own,
and other names of the old one (hard links) still lead to the old one. All of that is taken over from the old file
before the exchange; what cannot be taken over raises :class:`NotKept`, and nothing is changed. A symbolic link is
followed first: the file that it leads to is the one that is replaced.
"""

import contextlib
import errno
import os
import secrets
import stat
import subprocess
import sys
import tempfile
from codecs import BOM_UTF8
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType
from typing import Self

from .reading import BadInput, bad_file

MARK = "eager-lantern"


class NotKept(OSError):
    """Something of the old file would be lost; ``strerror`` says what, and what was expected."""

    def __init__(self, why: str) -> None:
        super().__init__(0, why)


class StagedFile:
    """A content on its way to a path, as a context manager: what was not placed is gone at its end."""

    def __init__(self, path: Path, content: bytes, mode: int) -> None:
        self.path = Path(os.path.realpath(path)) if os.path.exists(path) else path  # noqa: PTH110
        remove_stale(self.path.parent)
        self._name = ""
        self._handle = self._opened()
        try:
            self._fill(content, mode)
        except BaseException:
            self.__exit__(None, None, None)
            raise

    def _opened(self) -> int:
        """A file without a name where the system has that, else one beside the path."""
        if sys.platform == "linux":
            try:
                return os.open(self.path.parent, os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600)
            except OSError as error:
                if error.errno not in (errno.EOPNOTSUPP, errno.EISDIR, errno.ENOENT, errno.EINVAL):
                    raise
        handle, self._name = tempfile.mkstemp(prefix=f"{_temporary_prefix(self.path)}-", dir=self.path.parent)
        return handle

    def _fill(self, content: bytes, mode: int) -> None:
        if sys.platform != "win32":  # where a file is its owner's by the folder's own list
            os.fchmod(self._handle, mode)
        with os.fdopen(os.dup(self._handle), "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(self._handle)

    def place_new(self) -> None:
        """Give it its name. Raises FileExistsError where that is taken, OSError."""
        if self._name:
            os.link(self._name, self.path)
        else:
            self._link(self.path)
        _settle(self.path.parent)

    def replace(self) -> None:
        """Put it in the place of what stands there, if anything does, with all that belongs to that. Raises NotKept,
        OSError."""
        if self.path.is_symlink():
            raise NotKept("found a link that leads nowhere; expected a file")
        if self.path.exists():
            _take_over(self.path, self.path.stat(), self._handle, self._name)
        if not self._name:
            name = f"{self.path.parent / _temporary_prefix(self.path)}-{secrets.token_hex(4)}"
            self._link(Path(name))
            self._name = name
        if sys.platform == "win32":
            os.close(self._handle)  # a file that is open has to stay where it is
            self._handle = -1
        _exchange(Path(self._name), self.path)
        self._name = ""
        _settle(self.path.parent)

    def _link(self, path: Path) -> None:
        """Give a file without a name a name (open(2), on O_TMPFILE)."""
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.link(f"/proc/self/fd/{self._handle}", path.name, dst_dir_fd=folder, follow_symlinks=True)
        finally:
            os.close(folder)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: object, trace: TracebackType | None) -> None:
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1
        if self._name:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(self._name)  # noqa: PTH108


def _temporary_prefix(path: Path) -> str:
    """The beginning of a name that nobody else gives, with the number of this process."""
    return f".{path.name[:40]}-{MARK}-{os.getpid()}"


def remove_stale(folder: Path) -> None:
    """Take away what processes that were killed have left in a folder, as far as it is ours."""
    with contextlib.suppress(OSError):
        for each in folder.glob(f".*-{MARK}-*-*"):
            number = each.name.rpartition(f"-{MARK}-")[2].partition("-")[0]
            mine = sys.platform == "win32" or each.lstat().st_uid == os.getuid()
            if number.isascii() and number.isdecimal() and mine and not _runs(int(number[:9])):
                each.unlink(missing_ok=True)


def _runs(number: int) -> bool:
    import psutil  # only where something was left, which is rare

    return bool(psutil.pid_exists(number))


def _exchange(waiting: Path, path: Path) -> None:
    if sys.platform == "win32" and path.exists():
        import ctypes

        # ReplaceFileW gives the new file the old one's access list, owner and attributes (public interface)
        if not ctypes.windll.kernel32.ReplaceFileW(str(path), str(waiting), None, 0, None, None):
            raise ctypes.WinError()
    else:
        os.replace(waiting, path)  # noqa: PTH105


def _settle(folder: Path) -> None:
    """Have the names of a folder written to the disk, where the system offers that."""
    if sys.platform != "win32":
        with contextlib.suppress(OSError):
            handle = os.open(folder, os.O_RDONLY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)


def _take_over(path: Path, old: os.stat_result, handle: int, name: str) -> None:
    """Give a file that waits everything of the old one but its content. Raises NotKept."""
    if sys.platform == "win32":
        return
    if not stat.S_ISREG(old.st_mode):
        raise NotKept("found what is no regular file; expected one")
    if old.st_nlink > 1:
        raise NotKept(
            f"found {old.st_nlink} names of it (hard links), which a new file would part; expected one: edit it by hand"
        )
    if sys.platform == "darwin":
        _copied_by_cp(path, handle, name)
    own = os.fstat(handle)
    try:
        if (own.st_uid, own.st_gid) != (old.st_uid, old.st_gid):
            os.fchown(handle, old.st_uid, old.st_gid)
        os.fchmod(handle, stat.S_IMODE(old.st_mode))
        _attributes(path, handle)
    except PermissionError:
        pass  # what has not come about is named below
    now = os.fstat(handle)
    if (now.st_uid, now.st_gid) != (old.st_uid, old.st_gid):
        owner = f"user {old.st_uid}, group {old.st_gid}"
        raise NotKept(
            f"found a file of {owner}, which would belong to {now.st_uid}, {now.st_gid}; expected to run as its owner"
        )
    if stat.S_IMODE(now.st_mode) != stat.S_IMODE(old.st_mode):
        raise NotKept(f"found mode {stat.S_IMODE(old.st_mode):04o}, which cannot be kept; expected to run as its owner")
    if sys.platform == "linux" and _labels(path) != _labels(handle):
        raise NotKept("found an access list or attributes that cannot be kept; expected to run as its owner")


def _attributes(path: Path, handle: int) -> None:
    """Access lists (POSIX ACL) and every other attribute that a file of Linux can have."""
    if sys.platform == "linux":
        wanted, found = _labels(path), _labels(handle)
        for name in found.keys() - wanted.keys():
            os.removexattr(handle, name)
        for name, value in wanted.items():
            if found.get(name) != value:
                os.setxattr(handle, name, value)


def _labels(file: Path | int) -> dict[str, bytes]:
    """A file's attributes by name; none where its file system has none."""
    if sys.platform == "linux":
        try:
            return {name: os.getxattr(file, name) for name in os.listxattr(file)}
        except OSError as error:
            if error.errno != errno.ENOTSUP:
                raise
    return {}


def _copied_by_cp(path: Path, handle: int, name: str) -> None:
    """The access list of macOS, which Python cannot read: its own cp copies a file with it, and then the content is
    written once more."""
    with os.fdopen(os.dup(handle), "r+b") as file:
        file.seek(0)
        content = file.read()
        subprocess.run(["/bin/cp", "-p", "--", str(path), name], check=True, capture_output=True, timeout=60)
        file.seek(0)
        file.truncate()
        file.write(content)
        file.flush()
        os.fsync(handle)


PRIVATE, SHARED = 0o600, 0o666
CHANGED = "found another text than was read; expected no change meanwhile: run it again"


def write_new(files: Mapping[Path, bytes], private: Sequence[Path] = ()) -> None:
    """Write files that must not exist yet; ``private`` ones are for their owner alone.

    Raises BadInput for one that exists or cannot be written; then none of them is there.
    """
    placed: list[Path] = []
    with ExitStack() as open_:
        for path, waiting in _staged(files, private, open_):
            try:
                waiting.place_new()
                placed.append(path)
            except OSError as error:
                for each in placed:
                    each.unlink()
                raise _write_error(path, error) from None


def write(files: Mapping[Path, bytes], force: bool) -> None:
    """Write files as a command with ``--force`` does. Raises BadInput as :func:`write_new`."""
    if not force:
        _refuse_present(files)
    (_write_over if force else write_new)(files)


def _refuse_present(files: Iterable[Path]) -> None:
    for path in files:
        if os.path.lexists(path):
            message = "found a file of that name; expected a new name, or --force"
            raise bad_file(path, message)


def writes(path: Path, force: bool) -> None:
    """Try whether :func:`write` could write a file, before the work whose result goes there. Raises BadInput."""
    if not force:
        _refuse_present([path])
    with ExitStack() as open_:
        _staged({path: b""}, (), open_)


def _write_over(files: Mapping[Path, bytes]) -> None:
    """Write files in place of what is there. Raises BadInput as :func:`write_new`."""
    with ExitStack() as open_:
        for path, waiting in _staged(files, (), open_):
            try:
                waiting.replace()
            except OSError as error:
                raise _write_error(path, error) from None


def rewrite(path: Path, before: str, after: str) -> None:
    """Exchange the text of a file that was read as ``before``, by :func:`.yaml_tree.read_text`. Mode, owner, group,
    access list and links stay.

    Raises BadInput where it holds another text by now, where another process rewrites it at this moment, and where
    something of it cannot be kept; then it is as it was.
    """
    real = Path(os.path.realpath(path))
    try:
        with _locked(real) as handle:
            found = _content(handle)
            mark = BOM_UTF8 if found.startswith(BOM_UTF8) else b""
            if found != mark + before.encode() or not _is_the_file_at(handle, real):
                raise BlockingIOError
            with StagedFile(real, mark + after.encode(), PRIVATE) as waiting:
                waiting.replace()
            late = _content(handle)
            if late != found:  # somebody who had it open has written to the old file: theirs comes back
                with StagedFile(real, late, PRIVATE) as waiting:
                    waiting.replace()
                raise BlockingIOError
    except BlockingIOError:
        raise bad_file(path, CHANGED) from None
    except OSError as error:
        raise _write_error(path, error) from None


@contextlib.contextmanager
def _locked(path: Path) -> Iterator[int]:
    """The file, open for reading, and no other process of this program rewrites it. Raises BlockingIOError where one
    does."""
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0))
    try:
        if sys.platform == "win32":
            with _lock_file(path):
                yield handle
        else:
            import fcntl  # which not every system has

            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                raise
            except OSError:  # a file system without locks: what was read is compared all the same
                pass
            yield handle
    finally:
        with contextlib.suppress(OSError):
            os.close(handle)


@contextlib.contextmanager
def _lock_file(path: Path) -> Iterator[None]:
    """A file beside it that the system itself takes away when this process ends, however it does."""
    once = os.O_CREAT | os.O_EXCL | getattr(os, "O_TEMPORARY", 0)
    try:
        lock = os.open(path.with_name(f".{path.name}.lock"), once)
    except FileExistsError:
        raise BlockingIOError from None
    try:
        yield
    finally:
        os.close(lock)


def _content(handle: int) -> bytes:
    os.lseek(handle, 0, os.SEEK_SET)
    with os.fdopen(os.dup(handle), "rb") as file:
        return file.read()


def _is_the_file_at(handle: int, path: Path) -> bool:
    """Whether the name still leads to the file that was opened by it."""
    opened, there = os.fstat(handle), path.stat()
    return (opened.st_dev, opened.st_ino) == (there.st_dev, there.st_ino)


def _staged(files: Mapping[Path, bytes], private: Sequence[Path], open_: ExitStack) -> list[tuple[Path, StagedFile]]:
    """Every file written in full, before any of them is where it will be. Raises BadInput."""
    staged = []
    for path, content in files.items():
        if path.is_dir():
            raise bad_file(path, "found a folder; expected the name of a file")
        try:
            waiting = StagedFile(path, content, PRIVATE if path in private else SHARED & ~_umask())
        except OSError as error:
            raise _write_error(path, error) from None
        staged.append((path, open_.enter_context(waiting)))
    return staged


def _umask() -> int:
    current = os.umask(0)
    os.umask(current)
    return current


@contextlib.contextmanager
def folder_for_new(folder: Path) -> Iterator[None]:
    """A folder to write to, made where it is missing, and gone again where that comes to nothing.
    Raises BadInput."""
    try:
        folder.mkdir()
    except FileExistsError:
        if not folder.is_dir():
            raise bad_file(folder, "found a file; expected the name of a folder") from None
        yield
        return
    except OSError as error:
        raise _write_error(folder, error) from None
    try:
        yield
    except BaseException:
        with contextlib.suppress(OSError):
            folder.rmdir()
        raise


def _write_error(path: Path, error: OSError) -> BadInput:
    if isinstance(error, FileExistsError):
        return bad_file(path, "found a file of that name; expected a new name")
    if isinstance(error, FileNotFoundError):
        return bad_file(path, f"found no folder {path.parent} to write to; expected one that is there")
    if isinstance(error, NotKept):
        return bad_file(path, error.strerror or "")
    return bad_file(
        path,
        f"found that it cannot be written ({(error.strerror or 'it failed').lower()}); expected a place to write to",
    )
