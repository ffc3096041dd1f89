"""What a rung raises that does not hold."""

from typing import Literal

Fault = Literal["refused", "silent", "wrong", "unknown"]


class Failed(Exception):
    """A rung that did not hold: how, and what was seen."""

    def __init__(self, outcome: Fault, detail: str) -> None:
        super().__init__(detail)
        self.outcome = outcome
        self.detail = detail
