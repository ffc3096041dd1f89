"""One file written in full where nobody sees it, and then put where it belongs in one step.

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
from pathlib import Path
from types import TracebackType
from typing import Self

MARK = "eager-lantern"


class NotKept(OSError):
    """Something of the old file would be lost; ``strerror`` says what."""

    def __init__(self, why: str) -> None:
        super().__init__(0, why)


class StagedFile:
    """A content on its way to a path, as a context manager: what was not placed is gone at its end."""

    def __init__(self, path: Path, content: bytes, mode: int) -> None:
        self.path = Path(os.path.realpath(path)) if os.path.exists(path) else path  # noqa: PTH110
        sweep(self.path.parent)
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
        handle, self._name = tempfile.mkstemp(prefix=f"{_beside(self.path)}-", dir=self.path.parent)
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
            raise NotKept("is a link that leads nowhere; name a file")
        if self.path.exists():
            _take_over(self.path, self.path.stat(), self._handle, self._name)
        if not self._name:
            name = f"{self.path.parent / _beside(self.path)}-{secrets.token_hex(4)}"
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


def _beside(path: Path) -> str:
    """The beginning of a name that nobody else gives, with the number of this process."""
    return f".{path.name[:40]}-{MARK}-{os.getpid()}"


def sweep(folder: Path) -> None:
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
        raise NotKept("is no regular file; name one")
    if old.st_nlink > 1:
        raise NotKept(f"has {old.st_nlink} names (hard links), which a new file would part; edit it by hand")
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
        raise NotKept(f"belongs to {owner}, and would belong to {now.st_uid}, {now.st_gid}: run this as its owner")
    if stat.S_IMODE(now.st_mode) != stat.S_IMODE(old.st_mode):
        raise NotKept(f"has mode {stat.S_IMODE(old.st_mode):04o}, which cannot be kept: run this as its owner")
    if sys.platform == "linux" and _labels(path) != _labels(handle):
        raise NotKept("has an access list or attributes that cannot be kept: run this as its owner")


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
