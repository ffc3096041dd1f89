"""The command line as a whole: which commands there are, and what every failure looks like."""

import io
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from itertools import pairwise
from typing import Any

import typer
from typer.core import TyperGroup

from .. import __version__
from ..core.model.problem import did_you_mean
from ..formats.reading import BadInput
from ..wire.terminal_safe import printable
from .ending import OutputLost, ResultStream, SideStream, emit, end_tidily
from .exit_codes import BAD_INPUT

COMMANDS = (
    "demo",
    "new",
    "size",
    "check",
    "walk",
    "explain",
    "sheets",
    "certificate",
    "rehearse",
    "survey",
    "visit",
    "lamp",
    "diagnose",
    "mend",
    "adopt",
    "compare",
    "schema",
)


class _Commands(TyperGroup):
    """Commands that are imported when they are asked for, so that each starts quickly."""

    def list_commands(self, ctx: Any) -> list[str]:
        """All commands, in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command of this name, from the module of the same name."""
        if cmd_name not in COMMANDS:
            ctx.fail(f"there is no command “{cmd_name}”; {did_you_mean(cmd_name, COMMANDS)}")
        command = typer.main.get_command(import_module(f"eager_lantern.cli.{cmd_name}").app)
        command.name = cmd_name
        return command


app = typer.Typer(
    cls=_Commands,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        emit(f"eager-lantern {__version__}")
        raise typer.Exit


@app.callback()
def _root(version: bool = typer.Option(False, "--version", callback=_version, is_eager=True, help="Show it.")) -> None:
    """Know before you open a port, prove it after.

    One site file describes a file transfer server and every device between it and its
    clients. From it: what reaches the server, what to enter where, a rehearsal, a real visit.
    """


def main() -> None:
    """Run the command that was typed; faults become one line on stderr and an exit code."""
    if sys.stdout is None or sys.stderr is None:
        os._exit(BAD_INPUT)
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout = ResultStream.instead_of(sys.stdout)
    if isinstance(sys.stderr, io.TextIOWrapper):
        sys.stderr = SideStream.instead_of(sys.stderr)
    end_tidily()
    try:
        sys.exit(app(_understood(sys.argv[1:]), prog_name="eager-lantern", standalone_mode=False) or 0)
    except _ClickException as error:
        options = getattr(getattr(error, "param", None), "opts", ())
        error.message = printable(_with_alternative(error.message, options), MOST_CHARACTERS)
        error.show()
        sys.exit(error.exit_code)
    except typer.Abort:
        raise KeyboardInterrupt from None
    except BadInput as error:
        _fail(str(error), BAD_INPUT)
    except OutputLost as error:
        _fail(f"eager-lantern: the result could not be written to stdout: {error}", BAD_INPUT)
    except (RecursionError, MemoryError):
        _fail("eager-lantern: this input is more than the machine can hold", BAD_INPUT)


MOST_CHARACTERS = 2000
_ClickException: Any = next(each for each in typer.BadParameter.__mro__ if each.__name__ == "ClickException")


def _understood(words: list[str]) -> list[str]:
    """What is typed for help in other programs as well, or nothing at all, in the words of this one."""
    if not words:
        return ["--help"]
    if words[:1] in (["help"], ["-h"], ["-?"]):
        return [*words[1:2], "--help"]
    return ["--help" if each in ("-h", "-?") else each for each in words]


def _with_alternative(message: str, options: Sequence[str]) -> str:
    """A message of the argument parser, with what would be right; ``options`` are names of what it is about."""
    if message.startswith("Got unexpected extra argument"):
        return f"{message}: one site file at a time; check takes a folder of them"
    typed = [value for option, value in pairwise(sys.argv) if option in options]
    if message.startswith("Input should ") and typed:
        return f"{message}, found “{typed[-1]}”"  # the parser does not say it
    return message


def _fail(message: str, code: int) -> None:
    print(message, file=sys.stderr)
    sys.exit(code)
