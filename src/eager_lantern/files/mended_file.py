"""A site file as a plan would have it, checked before anybody sees it."""

import difflib

import yaml

from ..core.mending.mend import Plan
from ..core.model.change import changed
from .problem import BadInput, InputProblem
from .site_edit import edited
from .site_file import SiteFile, parse_site


def mended_text(source: SiteFile, text: str, plan: Plan) -> str:
    """The text with a plan's changes made, read again and found to be that very site. Raises BadInput where the file
    is written in a way that does not let them be made in their places alone."""
    found, again = text, None
    try:
        found = edited(text, plan.changes)
        again = parse_site(source.file, found).site
    except (BadInput, yaml.YAMLError):
        pass  # the author's hand does it better
    if again != changed(source.site, *plan.changes):
        line = source.line(plan.changes[0].place) or 0
        message = "is written so that this change cannot be made here alone (by an alias, perhaps); make it by hand"
        raise BadInput(source.file, InputProblem(line, message))
    return found


def patch(before: str, after: str, file: str) -> str:
    """What changes, as a unified diff."""
    lines = difflib.unified_diff(before.splitlines(True), after.splitlines(True), file, file)
    return "".join(each if each.endswith("\n") else f"{each}\n\\ No newline at end of file\n" for each in lines)
