"""A site, a state of a site, and parts of a site, as the command line names them."""

import os
import re
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path

import typer
from msgspec.structs import replace

from ...core.model.problem import did_you_mean
from ...core.model.site import Service, Site
from ...core.verdict import Verdict, judge
from ...formats.reading import BadInput, InputProblem
from ...formats.results.kept import KeptSurvey, KeptVisits, looks_kept, read_survey, read_visits
from ...formats.site.site_file import SiteFile, parse_site
from ...formats.site.yaml_tree import MOST_BYTES, read_text
from ...live.own_process import environment_for_child, own_path, program
from ...live.vantage.base import OWN_PLACE, checked_place


def the_place(option: str, text: str) -> str:
    """A place to stand: ``here``, or a host that is reached over SSH. Raises BadParameter."""
    try:
        return text if text == OWN_PLACE else checked_place(text)
    except ValueError as error:
        raise typer.BadParameter(f"{option}: {error}") from None


def client_and_file(text: str) -> tuple[str, Path]:
    """``CLIENT=FILE``, or a file alone. A file whose name has an equals sign in it is one that is there."""
    client, equals, name = text.partition("=")
    if not equals or Path(text).exists():
        return "", Path(text)
    return client, Path(name)


def known(option: str, name: str, names: Sequence[str]) -> None:
    """Raises BadParameter for a name that is missing or that the site does not have."""
    if not name:
        raise typer.BadParameter(f"{option} is needed; this site has {', '.join(names) or 'none'}")
    if name not in names:
        raise typer.BadParameter(f"{option}: there is no “{name}”{did_you_mean(name, names)}")


def the_transfer(site: Site, name: str, *protocols: str) -> Service:
    """The service of this name; without a name, the only one of these protocols. Raises BadParameter."""
    transfers = [each for each in site.services if each.protocol in protocols]
    if not name and len(transfers) == 1:
        return transfers[0]
    known("--service", name, [each.name for each in (site.services if name else transfers)])
    return next(each for each in site.services if each.name == name)


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
        raise _bad(name, "is no file, and git is not installed here to read a revision; give two files")
    if not _REVISION.fullmatch(revision):
        found = f"found “{revision}”" if revision else "found nothing"
        raise _bad(name, f"is no file; expected a revision before the colon, as HEAD:{file or 'FILE'}, {found}")
    inside = name if file.startswith(("../", "./")) else f"{revision}:./{file}"
    size = _git(name, git, "-s", inside)
    if not size.strip().isdigit() or int(size) > MOST_BYTES:
        raise _bad(name, "is too large for a site file")
    try:
        return _git(name, git, "blob", inside).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise _bad(name, "is not text: save the file as UTF-8 text") from None


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
        raise _bad(name, f"git did not answer within {MOST_SECONDS} s") from None
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip().splitlines()
        raise _bad(name, f"is no file, and git does not know it at a revision: {why[-1] if why else 'it failed'}")
    return done.stdout


def _without_git_variables() -> dict[str, str]:
    return {key: value for key, value in environment_for_child().items() if not key.startswith("GIT_")}


def _bad(name: str, message: str) -> BadInput:
    return BadInput(name, InputProblem(0, message))


def judged(source: SiteFile, certificate: Path | None) -> Verdict:
    """The verdict, and what is wrong with certificates, where any is named."""
    verdict = judge(source.site)
    if certificate is None and not any(each.tls.certificate for each in source.site.services):
        return verdict
    from ...formats.certificates import given_certificate, named_certificates

    now = time.time()
    found = named_certificates(source, now) if certificate is None else given_certificate(source, certificate, now)
    return replace(verdict, findings=(*verdict.findings, *found))
