"""When and where a result was taken, and by which version."""

import platform
from datetime import UTC, datetime

from .. import __version__
from ..formats.results.visit import Taken


def taken_now() -> Taken:
    """Now, on this host, with this version of the tool."""
    return Taken(time=datetime.now(UTC).isoformat(timespec="seconds"), host=platform.node(), tool=__version__)
