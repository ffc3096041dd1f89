"""The program, started by a process that has imported it already.

Most of a short run is the import of the same modules. Here they are imported once for each worker of the tests, and
every run is a process of its own that is forked from there: with its own words, environment, folder, streams, session
and exit code. What is about the start itself, or needs another environment, takes a fresh interpreter (`program.run`).
"""

import contextlib
import gc
import json
import os
import pkgutil
import runpy
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import IO

from typer.testing import CliRunner

_ONE_AT_A_TIME = threading.Lock()


def ended(
    words: list[str], folder: Path | None, environment: Mapping[str, str], seconds: int
) -> subprocess.CompletedProcess[str]:
    """Run the program to its end. Raises TimeoutExpired."""
    request = json.dumps({"words": words, "folder": str(folder or Path.cwd()), "environment": dict(environment)})
    mine, theirs = socket.socketpair()
    with mine, theirs, _file() as asked, _file() as out, _file() as err:
        asked.write(request)
        asked.seek(0)
        with _ONE_AT_A_TIME:
            socket.send_fds(_starter(), [b"r"], [each.fileno() for each in (asked, out, err, theirs)])
        theirs.close()
        mine.settimeout(seconds)
        answer = mine.makefile()
        pid = int(answer.readline())
        try:
            code = int(answer.readline())
        except TimeoutError:
            os.kill(pid, signal.SIGKILL)
            raise subprocess.TimeoutExpired(words, seconds) from None
        for each in (out, err):
            each.seek(0)
        return subprocess.CompletedProcess(words, code, out.read(), err.read())


def _file() -> IO[str]:
    return tempfile.TemporaryFile("w+")


@cache
def _starter() -> socket.socket:
    """Where to ask for a run. It ends with whoever holds this."""
    mine, theirs = socket.socketpair()
    command = [sys.executable, __file__, str(theirs.fileno())]
    subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    theirs.close()
    return mine


def _serve(control: socket.socket) -> None:
    """Start what is asked for, as long as somebody may ask; a process that is started leaves this as well."""
    while True:
        asked, streams, *_ = socket.recv_fds(control, 1, 4)
        if not asked:
            return
        if os.fork() == 0:
            control.close()
            _watched(*streams)
            return
        for each in streams:
            os.close(each)
        with contextlib.suppress(ChildProcessError):  # none is left, where even the last has ended by now
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass


def _watched(asked: int, out: int, err: int, answers: int) -> None:
    """Start the program, and answer with its number and its exit code."""
    with os.fdopen(asked) as file:
        request = json.load(file)
    pid = os.fork()
    if pid == 0:
        for number, stream in ((1, out), (2, err)):
            os.dup2(stream, number)
        for each in (out, err, answers):
            os.close(each)
        _become(request["words"], request["folder"], request["environment"])
    with socket.socket(fileno=answers) as answer:
        answer.sendall(f"{pid}\n".encode())
        answer.sendall(f"{os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])}\n".encode())
    os._exit(0)


def _become(words: list[str], folder: str, environment: dict[str, str]) -> None:
    """Go on as ``python -m eager_lantern`` with these words."""
    os.setsid()
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    sys.path[0], sys.argv = folder, ["eager-lantern", *words]
    runpy.run_module("eager_lantern", run_name="__main__", alter_sys=True)


def _import_it() -> None:
    """Every command, and what the packages that these use import only at the first use."""
    import eager_lantern.cli
    from eager_lantern.cli.app import app

    for each in pkgutil.walk_packages(eager_lantern.cli.__path__, "eager_lantern.cli."):
        import_module(each.name)
    CliRunner().invoke(app, ["check", "no-such-file"])
    gc.freeze()


if __name__ == "__main__":
    asks = socket.socket(fileno=int(sys.argv[1]))
    _import_it()
    _serve(asks)
