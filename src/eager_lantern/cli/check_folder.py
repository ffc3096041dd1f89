"""``check`` of a folder: a line for each site file in it."""

import os
import sys
from collections.abc import Iterator
from fnmatch import fnmatch
from pathlib import Path

import typer

from ..formats.reading import NOT_PERMITTED, BadInput, bad_file
from ..formats.site.site_file import PATTERN, read_site
from ..views.check import FolderRow, folder_view
from ..wire.terminal_safe import printable
from .arguments.options import CheckFormat
from .arguments.sites import judged
from .check_written import Checked, checked, of_several, written
from .ending import end_quietly, show
from .exit_codes import BAD_INPUT, FAULT, of_verdict, worst

ALONE = 8


def check_folder(folder: Path, form: CheckFormat) -> None:
    """Check every site file in a folder and in those below it. Raises BadInput, and Exit with the worst code."""
    if not os.access(folder, os.R_OK | os.X_OK):
        raise bad_file(folder, NOT_PERMITTED)
    paths = sorted(_found_below(folder))
    if not paths:
        raise bad_file(folder, f"found no site file in it; expected one ({PATTERN})")
    found = _all_checked(paths)
    if form is CheckFormat.text:
        show(folder_view([_row(each, folder) for each in found]))
    else:
        written(found, form, of_several(found))
    for each in found:
        if each.fault:
            print(f"eager-lantern: a fault of the program itself ({each.file}): {each.fault}", file=sys.stderr)
    raise typer.Exit(worst(map(_folder_code, found)))


def _folder_code(each: Checked) -> int:
    if each.fault:
        return FAULT
    return of_verdict(each.result["verdict"]) if each.result is not None else BAD_INPUT


def _found_below(folder: Path) -> Iterator[str]:
    """The site files of a folder and of those in it; one that may not be entered is told and passed by."""

    def unreadable(error: OSError) -> None:
        name = printable(str(error.filename), 600)
        print(f"{name}: cannot be read: {(error.strerror or 'it failed').lower()}; passed by", file=sys.stderr)

    for where, _, names in os.walk(folder, onerror=unreadable):
        for name in names:
            if fnmatch(name, PATTERN) and os.path.isfile(path := os.path.join(where, name)):  # noqa: PTH113, PTH118
                yield str(Path(path))


def _all_checked(paths: list[str]) -> list[Checked]:
    """Every site, on all processors where there are enough of them to be worth it."""
    if len(paths) <= ALONE:
        return [_check_one(each) for each in paths]
    from concurrent.futures import ProcessPoolExecutor  # only a folder needs it, and it loads slowly
    from concurrent.futures.process import BrokenProcessPool

    try:
        with ProcessPoolExecutor(os.cpu_count(), initializer=end_quietly) as pool:
            return list(pool.map(_check_one, paths, chunksize=8))
    except BrokenProcessPool:  # a worker was killed, for want of memory perhaps
        return [_checked_apart(each) for each in paths]


def _checked_apart(path: str) -> Checked:
    """A site checked in a process of its own, so that only its own result is lost with it."""
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    try:
        with ProcessPoolExecutor(1, initializer=end_quietly) as pool:
            return pool.submit(_check_one, path).result()
    except BrokenProcessPool:
        return Checked(path, None, None, "its process was killed, for want of memory perhaps")


def _check_one(path: str) -> Checked:
    try:
        source = read_site(Path(path))
        return checked(source, judged(source, None))
    except BadInput as error:
        return Checked(path, None, error)
    except Exception as error:  # one site that the program fails at hides no other's result
        notes = "".join(f"{note}: " for note in getattr(error, "__notes__", ()))
        return Checked(path, None, None, f"{notes}{type(error).__name__}: {error}")


def _row(each: Checked, folder: Path) -> FolderRow:
    name = os.path.relpath(each.file, folder)
    if each.fault:
        return FolderRow(name, "fault", 0, 0, each.fault)
    if each.result is None:
        return FolderRow(name, "bad input", 0, 0, str(each.error).splitlines()[0].removeprefix(each.file).lstrip(":"))
    promises, findings = [*each.result["promises"], *each.result["ways_in"]], each.result["findings"]
    kept = sum(promise["kept"] is True for promise in promises)
    most = f"{findings[0]['kind']}, line {findings[0]['where']['line']}" if findings else ""
    more = f" and {len(findings) - 1} more" if len(findings) > 1 else ""
    return FolderRow(name, each.result["verdict"], kept, len(promises), most + more)
