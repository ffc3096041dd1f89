"""A state of a site as it is named on the command line: a file, a file at a revision, or what a visit has seen."""

import os
import shutil
import subprocess
from pathlib import Path

from ...files.problem import BadInput, InputProblem
from ...files.seen_file import Seen, read_seen
from ...files.site_file import SiteFile, parse_site
from ...files.survey_file import KeptSurvey, read_survey
from ...files.yaml_tree import MOST_BYTES, read_text
from ...live.children import environment_for_child

MOST_SECONDS = 20
_SAFELY = {"GIT_TERMINAL_PROMPT": "0", "GIT_NO_LAZY_FETCH": "1", "GIT_ALLOW_PROTOCOL": "none"}
"""Nothing is asked, and nothing is fetched, whatever the repository would have git do for it."""


def read_state(name: str) -> SiteFile | Seen | KeptSurvey:
    """What is named. Raises BadInput for what cannot be read, or is no site, kept visit or kept survey."""
    if not os.path.lexists(name) and ":" in name:
        return parse_site(name, _at_revision(name))
    text = read_text(Path(name))
    if text.lstrip().startswith("{") and '"eager-lantern/survey/' in text[:200]:
        return read_survey(Path(name))
    is_visit = text.lstrip().startswith("{") and '"eager-lantern/visit/' in text
    return read_seen(Path(name)) if is_visit else parse_site(name, text)


def _at_revision(name: str) -> str:
    """The text of ``REV:FILE`` in the git repository of the current folder."""
    revision, _, file = name.partition(":")
    git = shutil.which("git")
    if git is None or Path(git).absolute().parent == Path.cwd():
        raise _bad(name, "is no file, and there is no git here that could tell it at a revision; give two files")
    if revision.startswith("-"):
        raise _bad(name, f"“{revision}” is no revision")
    inside = name if file.startswith(("../", "./")) else f"{revision}:./{file}"
    size = _git(name, git, "-s", inside)
    if not size.strip().isdigit() or int(size) > MOST_BYTES:
        raise _bad(name, "is too large for a site file")
    try:
        return _git(name, git, "blob", inside).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise _bad(name, "is not text: save the file as UTF-8 text") from None


def _git(name: str, git: str, what: str, inside: str) -> bytes:
    """What a command of git tells that only reads objects."""
    words = [git, "--no-pager", "cat-file", what, inside]
    try:
        done = subprocess.run(
            words,
            capture_output=True,
            timeout=MOST_SECONDS,
            stdin=subprocess.DEVNULL,
            env=environment_for_child(**_SAFELY),
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise _bad(name, f"git did not answer within {MOST_SECONDS} s") from None
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip().splitlines()
        raise _bad(name, f"is no file, and git does not know it at a revision: {why[-1] if why else 'it failed'}")
    return done.stdout


def _bad(name: str, message: str) -> BadInput:
    return BadInput(name, InputProblem(0, message))
