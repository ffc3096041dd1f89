"""Facts that are learnt, or not: what cannot be learnt is kept with the reason and with what would tell it."""

from collections.abc import Awaitable
from typing import TypeVar

from ...core.observed.survey import Topic, Untold
from ...wire.terminal_safe import printable
from ..failure import Failed

Fact = TypeVar("Fact")


class Learning:
    """Collects what could not be learnt."""

    def __init__(self) -> None:
        self.unknown: list[Untold] = []

    def untold(self, topic: Topic, why: str, ask: str) -> None:
        """Keep that something is not known."""
        self.unknown.append(Untold(topic, printable(why, 200), ask))

    async def of(self, topic: Topic, ask: str, work: Awaitable[Fact]) -> Fact | None:
        """What some work comes to; None where it comes to nothing."""
        try:
            return await work
        except FileNotFoundError as error:
            missing = f"{error.filename} is not there" if error.filename else "the system has no such thing"
            self.untold(topic, missing, ask)
        except PermissionError:
            self.untold(topic, "it is told to the superuser alone", ask)
        except OSError as error:
            self.untold(topic, (error.strerror or "it failed").lower(), ask)
        except (ValueError, Failed) as error:
            self.untold(topic, str(error), ask)
        return None
