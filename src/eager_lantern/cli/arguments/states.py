"""A state of a site as the command line names it: a file, a file at a revision, or what a visit or survey found."""

import os
import re
import subprocess
from pathlib import Path

from ...formats.reading import BadInput, bad_file
from ...formats.results.kept import KeptSurvey, KeptVisits, looks_kept, read_survey, read_visits
from ...formats.site.site_file import SiteFile, parse_site
from ...formats.site.yaml_tree import MOST_BYTES, read_text
from ...live.own_process import environment_for_child, own_path, program

MOST_SECONDS = 20


_SAFELY = {
    "GIT_TERMINAL_PROMPT": "0", "GIT_NO_LAZY_FETCH": "1", "GIT_ALLOW_PROTOCOL": "none", "GIT_OPTIONAL_LOCKS": "0",
    "GIT_NO_REPLACE_OBJECTS": "1", "GIT_ATTR_NOSYSTEM": "1", "GIT_ASKPASS": "", "SSH_ASKPASS": "",
}  # fmt: skip
"""Nothing is asked, nothing is fetched and nothing written, whatever the repository would have git do for it."""


_OVERRIDDEN = {
    "core.fsmonitor": "false", "core.untrackedCache": "false", "core.hooksPath": os.devnull,
    "core.attributesFile": os.devnull, "core.alternateRefsCommand": "", "core.sshCommand": "", "core.gitProxy": "",
    "core.askPass": "", "core.pager": "", "core.editor": "", "sequence.editor": "", "credential.helper": "",
    "diff.external": "", "gpg.program": "", "log.showSignature": "false", "protocol.allow": "never", "gc.auto": "0",
    "maintenance.auto": "false", "submodule.recurse": "false",
}  # fmt: skip
"""Whatever a repository's own configuration can have git run, or run by. Nothing that is asked for here does any of
it but reading the index, which is why no object is named by its place there; the rest is a second fence."""


_REVISION = re.compile(r"[A-Za-z0-9@][A-Za-z0-9@._/+~^{}-]{0,199}")


def read_state(name: str) -> SiteFile | KeptVisits | KeptSurvey:
    """What is named. Raises BadInput for what cannot be read, or is no site, kept visit or kept survey."""
    if not os.path.lexists(name) and ":" in name:
        return parse_site(name, _at_revision(name))
    text = read_text(Path(name))
    if looks_kept(text, "survey"):
        return read_survey(Path(name))
    return read_visits(Path(name)) if looks_kept(text, "visit") else parse_site(name, text)


def _at_revision(name: str) -> str:
    """The text of ``REV:FILE`` in the git repository of the current folder: of an object, and never of the index,
    since git runs a program of the repository's choice (core.fsmonitor) when it reads that."""
    revision, _, file = name.partition(":")
    git = program("git", own_path())
    if git is None:
        raise _bad(name, "found no such file, and no git here that could read a revision; expected the name of a file")
    if not _REVISION.fullmatch(revision):
        found = f"found no such file, and “{revision}” as a revision"
        raise _bad(name, f"{found}; expected one before the colon, as in HEAD:{file or 'FILE'}")
    inside = name if file.startswith(("../", "./")) else f"{revision}:./{file}"
    size = _git(name, git, "-s", inside)
    if not size.strip().isdigit() or int(size) > MOST_BYTES:
        raise _bad(name, f"found too large a file; expected at most {MOST_BYTES} bytes")
    try:
        return _git(name, git, "blob", inside).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise _bad(name, "found what is no text; expected a file that is saved as UTF-8 text") from None


def _git(name: str, git: str, what: str, inside: str) -> bytes:
    """The output of a git command that only reads objects."""
    overridden = [word for key, value in _OVERRIDDEN.items() for word in ("-c", f"{key}={value}")]
    words = [git, "--no-pager", *overridden, "cat-file", what, inside]
    try:
        done = subprocess.run(
            words,
            capture_output=True,
            timeout=MOST_SECONDS,
            stdin=subprocess.DEVNULL,
            env={**_without_git_variables(), **_SAFELY},
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise _bad(name, f"found no answer of git within {MOST_SECONDS} s; expected one") from None
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip().splitlines()
        raise _bad(
            name,
            f"found no such file, nor one at a revision of git ({why[-1] if why else 'it failed'}); expected either",
        )
    return done.stdout


def _bad(name: str, message: str) -> BadInput:
    return bad_file(name, message)


def _without_git_variables() -> dict[str, str]:
    return {key: value for key, value in environment_for_child().items() if not key.startswith("GIT_")}
