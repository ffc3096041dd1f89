"""Fixtures that several tests share."""

import signal
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

settings.register_profile("lantern", deadline=None)  # how long an example takes is for the machine to say
settings.load_profile("lantern")

# A shell starts what runs in the background with Ctrl-C ignored, and children would inherit that.
signal.signal(signal.SIGINT, signal.default_int_handler)


@pytest.fixture
def daemon_folder() -> Iterator[Path]:
    """A folder that a daemon of another account may enter; pytest's own are closed to others."""
    with tempfile.TemporaryDirectory(prefix="lantern-daemon-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        yield folder
