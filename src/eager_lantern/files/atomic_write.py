"""Writing files: whole or not at all, several together or none, and nothing overwritten unasked."""

import contextlib
import os
import sys
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from .problem import BadInput, InputProblem

PRIVATE, SHARED = 0o600, 0o666


def write_new(files: Mapping[Path, bytes], private: Sequence[Path] = ()) -> None:
    """Write files that must not exist yet; ``private`` ones are for their owner alone.

    Raises BadInput for one that exists or cannot be written; then none of them is there.
    """
    placed: list[Path] = []
    with _staged(files, private) as staged:
        try:
            for path, waiting in staged.items():
                os.link(waiting, path)  # unlike a renaming, fails where something is there
                placed.append(path)
        except OSError as error:
            for each in placed:
                each.unlink()
            raise _trouble(path, error) from None


def write(files: Mapping[Path, bytes], force: bool) -> None:
    """Write files as a command with ``--force`` does. Raises BadInput as :func:`write_new`."""
    if not force:
        _refuse_present(files)
    (write_over if force else write_new)(files)


def _refuse_present(files: Iterable[Path]) -> None:
    for path in files:
        if os.path.lexists(path):
            message = "exists already, and is not overwritten: name a new one, or give --force"
            raise BadInput(str(path), InputProblem(0, message))


def writes(path: Path, force: bool) -> None:
    """Try whether :func:`write` could write a file, before the work whose result goes there. Raises BadInput."""
    if not force:
        _refuse_present([path])
    with _staged({path: b""}, ()):
        pass


def write_over(files: Mapping[Path, bytes], private: Sequence[Path] = ()) -> None:
    """Write files in place of what is there. Raises BadInput as :func:`write_new`."""
    with _staged(files, private) as staged:
        for path, waiting in staged.items():
            try:
                waiting.replace(path)
            except OSError as error:
                raise _trouble(path, error) from None


@contextlib.contextmanager
def _staged(files: Mapping[Path, bytes], private: Sequence[Path]) -> Iterator[dict[Path, Path]]:
    """Every file written in full beside where it will be; what is left at the end is removed."""
    staged: dict[Path, Path] = {}
    try:
        for path, content in files.items():
            if path.is_dir():
                raise BadInput(str(path), InputProblem(0, "is a folder; name a file"))
            try:
                staged[path] = _waiting(path, content, PRIVATE if path in private else SHARED & ~_umask())
            except OSError as error:
                raise _trouble(path, error) from None
        yield staged
    finally:
        for waiting in staged.values():
            waiting.unlink(missing_ok=True)


def _waiting(path: Path, content: bytes, mode: int) -> Path:
    handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}-", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            if sys.platform != "win32":  # where a file is its owner's by the folder's own list
                os.fchmod(handle, mode)
            file.write(content)
            file.flush()
            os.fsync(handle)
    except BaseException:
        Path(name).unlink()
        raise
    return Path(name)


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
    return BadInput(str(path), InputProblem(0, f"cannot be written: {(error.strerror or 'it failed').lower()}"))
