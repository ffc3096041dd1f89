"""The executable: nothing is imported before interrupts and faults are taken care of, but what the interpreter has
loaded for itself."""

import gc
import os
import sys

COLLECTS = (2_000_000, 20, 100)
"""How many new objects the collector waits for, and how often it looks at older ones: with 700 a site of 10,000 rules
takes a third longer, since next to nothing here is in circles."""


def run() -> None:
    """Run the command line and leave the interpreter with its code; a traceback never reaches the user."""
    ended: BaseException | None = None
    try:
        gc.set_threshold(*COLLECTS)
        _look_nowhere_else()
        from .cli.app import main

        main()
    except BaseException as error:
        ended = error
    code = _code_after(ended)
    _put_away()
    sys.exit(code)


def _code_after(ended: BaseException | None) -> int:
    """The exit code after what ended the command line, and a last line where it was no end of its own."""
    from .cli.exit_codes import FAULT, INTERRUPTED, KEPT

    code = ended.code if isinstance(ended, SystemExit) else KEPT
    if ended is not None and not isinstance(ended, SystemExit):
        code = INTERRUPTED if _interrupted(ended) else FAULT
        if code == FAULT:
            where = "".join(f" ({note})" for note in getattr(ended, "__notes__", ()))
            _complain(f"eager-lantern: a fault of the program itself{where}: {type(ended).__name__}: {ended}")
    if code == INTERRUPTED:
        _complain("eager-lantern: interrupted")
        exec("")  # the interpreter remembers an interrupt in code made of text, as in data classes, as if nobody saw it
    return code if isinstance(code, int) else FAULT if code else KEPT


def _complain(text: str) -> None:
    """A last line on stderr, where that takes one."""
    import contextlib

    with contextlib.suppress(OSError, ValueError, AttributeError):
        print(text, file=sys.stderr, flush=True)


def _put_away() -> None:
    """Write out what waits. A stream that takes no more is exchanged for one that takes all: the interpreter would try
    it once more at its end, and turn the exit code into 120."""
    import contextlib

    for number, stream in ((1, sys.stdout), (2, sys.stderr)):
        try:
            stream.flush()
        except Exception:  # it is full, who reads has gone, or it never was there
            with contextlib.suppress(OSError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), number)
    gc.freeze()  # what was built goes with the process: nobody has to look through it for circles first


def _look_nowhere_else() -> None:
    """No code of the current folder is run, by this interpreter or one that it starts."""
    own = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))  # noqa: PTH100, PTH120  (pathlib loads slowly)
    if sys.path and sys.path[0] in ("", os.getcwd()) and sys.path[0] != own:  # noqa: PTH109
        del sys.path[0]
    os.environ["PYTHONSAFEPATH"] = "1"


def _interrupted(error: BaseException | None) -> bool:
    """Whether Ctrl-C is at the bottom of it; Python wraps one that comes while a class is made."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__cause__ or error.__context__
    return error is not None


if __name__ == "__main__":
    run()
