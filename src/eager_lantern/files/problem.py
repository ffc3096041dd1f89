"""Errors about input, each line starting with ``FILE:LINE:``."""

from msgspec import Struct

from ..wire.terminal_safe import printable

MOST_SHOWN, MOST_COUNTED, MOST_CHARACTERS = 20, 1000, 600


class InputProblem(Struct, frozen=True, order=True):
    """Something wrong in a file; line 0 is the file as a whole."""

    line: int
    message: str


class BadInput(Exception):
    """A file that cannot be used, with every problem that was found in it."""

    def __init__(self, file: str, *problems: InputProblem) -> None:
        self.file = file
        self.problems = tuple(sorted(problems))
        super().__init__("\n".join(self._lines()))

    def __reduce__(self) -> tuple[type["BadInput"], tuple[object, ...]]:
        return BadInput, (self.file, *self.problems)

    def _lines(self) -> list[str]:
        file = printable(self.file, MOST_CHARACTERS)
        shown = [
            f"{file}{f':{each.line}' if each.line else ''}: {printable(each.message, MOST_CHARACTERS)}"
            for each in self.problems[:MOST_SHOWN]
        ]
        left = len(self.problems) - len(shown)
        more = f"{left} or more" if len(self.problems) >= MOST_COUNTED else f"{left} more"
        return [*shown, f"{file}: and {more} of the kind"] if left else shown
