"""Running the built program as its users do."""

import json
import os
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator
from ready_program import ended

from eager_lantern import __file__ as package
from eager_lantern.formats.results.formats import FORMATS
from eager_lantern.formats.site.schema import result_schema

DATA = Path(package).parent / "data"
BEFORE, AFTER = DATA / "saltmarsh-before.site.yaml", DATA / "saltmarsh-after.site.yaml"


LIMIT = 180
"""Seconds until a run that does not end is killed."""
UNPRIVILEGED = ["setpriv", "--bounding-set", "-dac_override,-dac_read_search"] if os.getuid() == 0 else []


def run_bound_by_modes(*words: object) -> subprocess.CompletedProcess[str]:
    """Run the program so that file modes bind it, also where the tests run as root."""
    command = [*UNPRIVILEGED, sys.executable, "-m", "eager_lantern", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, timeout=LIMIT, stdin=subprocess.DEVNULL)


def fresh(*words: str, cwd: Path | None, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the program in an interpreter that has nothing imported, with this environment and no other."""
    return subprocess.run(
        [sys.executable, "-m", "eager_lantern", *words],
        capture_output=True,
        text=True,
        timeout=LIMIT,
        cwd=cwd,
        env=environment,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
    )


def run(*words: object, cwd: Path | None = None, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the program with these words and no terminal: in a fresh interpreter where the environment is another than
    that of the tests, else in one that has imported it already."""
    kept = {key: value for key, value in os.environ.items() if key != "EAGER_LANTERN_PASSWORD"}
    said = [str(each) for each in words]
    if environment or not hasattr(os, "fork"):
        done = fresh(*said, cwd=cwd, **{**kept, **environment})
    else:
        done = ended(said, cwd, kept, seconds=LIMIT)
    faults = [line for line in done.stderr.splitlines() if _FILE_AND_LINE.match(line)]
    assert [line for line in faults if not _STYLE.fullmatch(line)] == []
    return done


_FILE_AND_LINE = re.compile(r"\S+\.(yaml|json|csv|conf|log|pem|txt|rules|nft)(:\d+)?: ")
_STYLE = re.compile(r".+?: ((.+: )?found .+; expected .+|and \d+ (or )?more of the kind)")


def result_of(text: str) -> Any:
    """A result in JSON, which is valid by the schema that is published for its format."""
    result = json.loads(text)
    name = result["format"].split("/")[1]
    Draft202012Validator(result_schema(FORMATS[name])).validate(result)
    return result
