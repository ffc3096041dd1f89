"""Writing files: whole or not at all, several together or none, nothing overwritten unasked, and nothing that
somebody else wrote meanwhile lost."""

import contextlib
import os
import sys
from codecs import BOM_UTF8
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path

from .problem import BadInput, InputProblem
from .staged_file import NotKept, StagedFile

PRIVATE, SHARED = 0o600, 0o666
CHANGED = "changed meanwhile: run it again"


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
                raise _trouble(path, error) from None


def write(files: Mapping[Path, bytes], force: bool) -> None:
    """Write files as a command with ``--force`` does. Raises BadInput as :func:`write_new`."""
    if not force:
        _refuse_present(files)
    (_write_over if force else write_new)(files)


def _refuse_present(files: Iterable[Path]) -> None:
    for path in files:
        if os.path.lexists(path):
            message = "exists already, and is not overwritten: name a new one, or give --force"
            raise BadInput(str(path), InputProblem(0, message))


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
                raise _trouble(path, error) from None


def rewrite(path: Path, before: str, after: str) -> None:
    """Exchange the text of a file that was read as ``before``, by :func:`.yaml_tree.read_text`. Mode, owner, group,
    access list and links stay.

    Raises BadInput where it holds another text by now, where another process rewrites it at this moment, and where
    something of it cannot be kept; then it is as it was.
    """
    real = Path(os.path.realpath(path))
    try:
        with _held(real) as handle:
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
        raise BadInput(str(path), InputProblem(0, CHANGED)) from None
    except OSError as error:
        raise _trouble(path, error) from None


@contextlib.contextmanager
def _held(path: Path) -> Iterator[int]:
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
            raise BadInput(str(path), InputProblem(0, "is a folder; name a file"))
        try:
            waiting = StagedFile(path, content, PRIVATE if path in private else SHARED & ~_umask())
        except OSError as error:
            raise _trouble(path, error) from None
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
            raise BadInput(str(folder), InputProblem(0, "is a file; name a folder")) from None
        yield
        return
    except OSError as error:
        raise _trouble(folder, error) from None
    try:
        yield
    except BaseException:
        with contextlib.suppress(OSError):
            folder.rmdir()
        raise


def _trouble(path: Path, error: OSError) -> BadInput:
    if isinstance(error, FileExistsError):
        return BadInput(
            str(path),
            InputProblem(0, "exists already, and is not overwritten; name a new one"),
        )
    if isinstance(error, FileNotFoundError):
        return BadInput(str(path), InputProblem(0, f"cannot be written: there is no folder {path.parent}"))
    if isinstance(error, NotKept):
        return BadInput(str(path), InputProblem(0, f"is not written: it {error.strerror}"))
    return BadInput(str(path), InputProblem(0, f"cannot be written: {(error.strerror or 'it failed').lower()}"))
