"""PyYAML loaded without compiling the patterns of its reader in Python.

One of them alone takes longer to compile than all of a site takes to predict (7 ms of 160), and libyaml, which reads
for this program, asks none. So each is compiled when it is first asked, for the program alone: who imports
:mod:`eager_lantern.api` gets PyYAML as it is.
"""

import re
import sys
from typing import Any


class _Later:
    """A pattern that is compiled when it is first asked for anything."""

    def __init__(self, pattern: str, flags: int) -> None:
        self._given = pattern, flags

    def __getattr__(self, name: str) -> Any:
        return getattr(re.compile(*self._given), name)


def _in_yaml_later(pattern: Any, flags: int = 0) -> Any:
    """What :func:`re.compile` gives, but for the modules of PyYAML."""
    asking = sys._getframe(1).f_globals.get("__name__", "")
    return _Later(pattern, flags) if asking.startswith("yaml.") else _compile(pattern, flags)


_compile = re.compile
re.compile = _in_yaml_later
try:
    import yaml  # noqa: F401
finally:
    re.compile = _compile
