"""The secret that a lamp and who sweeps it share."""

import os

VARIABLE = "EAGER_LANTERN_LAMP"


def given_secret() -> bytes:
    """The secret, or nothing where none is set."""
    return os.environ.get(VARIABLE, "").encode()
