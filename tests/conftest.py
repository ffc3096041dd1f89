"""Fixtures that several tests share."""

import os
import re
import signal
import tempfile
import zlib
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from eager_lantern.formats.reading import BadInput, InputProblem

settings.register_profile("lantern", deadline=None)  # how long an example takes is for the machine to say
settings.load_profile("lantern")

# A shell starts what runs in the background with Ctrl-C ignored, and children would inherit that.
signal.signal(signal.SIGINT, signal.default_int_handler)
os.environ.pop("COLUMNS", None)  # workers inherit one; a test that is about widths states its own


LIMIT_OF_A_SWEEP = 3600
"""Seconds: minutes on an idle machine, and a limit that comes down inside a property is taken for a failing example."""


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--share", default="1/1", help="K/N: of the tests that are left, this part of as many alike")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Of very many cases another part for each commit: which one a test is in hangs on its name alone. Sweeps have a
    limit of their own."""
    part, parts = map(int, config.getoption("--share").split("/"))
    items[:] = [each for each in items if zlib.crc32(each.nodeid.encode()) % parts == part % parts]
    for each in items:
        if each.get_closest_marker("sweep") and not each.get_closest_marker("timeout"):
            each.add_marker(pytest.mark.timeout(LIMIT_OF_A_SWEEP))


@pytest.fixture
def daemon_folder() -> Iterator[Path]:
    """A folder that a daemon of another account may enter; pytest's own are closed to others."""
    with tempfile.TemporaryDirectory(prefix="lantern-daemon-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        yield folder


STYLE = re.compile(r"(.+: )?found .+; expected .+", re.DOTALL)


@pytest.fixture(autouse=True)
def every_bad_input_states_what_was_found_and_expected(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Whatever a test gives to the program, and whatever the program finds wrong with it, is stated in one style."""
    others: list[str] = []
    begin = BadInput.__init__

    def noting(self: BadInput, file: str, *problems: InputProblem) -> None:
        others.extend(each.message for each in problems if not STYLE.fullmatch(each.message))
        begin(self, file, *problems)

    monkeypatch.setattr(BadInput, "__init__", noting)
    yield
    assert others == []
