"""The rungs of a session in order, and what can become of each.

Prediction, rehearsal and visit all speak in these words, so that one table can put them
side by side.
"""

from typing import Literal, get_args

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
