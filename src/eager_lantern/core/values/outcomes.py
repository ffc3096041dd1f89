"""The rungs of a session in order, and what can become of each.

Prediction, rehearsal and visit all speak in these words, so that one table can put them
side by side.
"""

from collections.abc import Mapping
from typing import Literal, get_args

from msgspec import Struct
from msgspec.structs import replace

Rung = Literal[
    "name", "connect", "greet", "secure", "host-key", "login", "announce", "data", "list", "send", "fetch", "tidy",
]  # fmt: skip


RUNGS: tuple[Rung, ...] = (
    "name", "connect", "greet", "secure", "login", "announce", "data", "list", "send", "fetch", "tidy",
)  # fmt: skip


SSH_RUNGS: tuple[Rung, ...] = (
    "name", "connect", "greet", "secure", "host-key", "login", "list", "send", "fetch", "tidy",
)  # fmt: skip


ORDER: tuple[Rung, ...] = get_args(Rung)


Outcome = Literal["ok", "refused", "silent", "wrong", "unknown", "untried"]


Extent = Literal["works", "partly", "fails", "unknown"]


class Advice(Struct, frozen=True):
    """What to do next where a rung fails: by the rung and how it ended, else by how it ended alone; ``ssh`` has what
    differs from FTP, ``here`` what differs on the server itself."""

    rungs: Mapping[Rung, Mapping[Outcome, str]] = {}
    ssh: Mapping[Rung, Mapping[Outcome, str]] = {}
    here: Mapping[Rung, Mapping[Outcome, str]] = {}
    anywhere: Mapping[Outcome, str] = {}

    def at(self, rung: Rung, outcome: Outcome) -> str:
        """The advice for a rung; empty where nothing failed."""
        return self.rungs.get(rung, {}).get(outcome) or self.anywhere.get(outcome, "")

    def on_server(self) -> "Advice":
        """The advice for a session on the server itself."""
        beside = {rung: {**self.rungs.get(rung, {}), **each} for rung, each in self.here.items()}
        by_ssh = {rung: {**each, **self.here.get(rung, {})} for rung, each in self.ssh.items()}
        return replace(self, rungs={**self.rungs, **beside}, ssh=by_ssh)

    def over_ssh(self) -> "Advice":
        """The advice for a session of SSH."""
        return replace(self, rungs={**self.rungs, **self.ssh})
