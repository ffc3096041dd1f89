"""The site file: YAML in, a checked site out, with the line of everything in it."""

import os
from itertools import islice
from pathlib import Path

import msgspec

from ...core.model.consistency import problems
from ...core.model.site import Site
from ...core.model.unfilled import open_places
from ...core.values.text_value import SitePath
from ..damage import guarded
from ..reading import MOST_COUNTED, NOT_PERMITTED, BadInput, InputProblem, bad_file, not_readable
from .placeholders import with_placeholders
from .types import faults, from_text, key_at
from .yaml_tree import YamlTree, read_text

PATTERN = "*.site.yaml"


class SiteFile(msgspec.Struct, frozen=True):
    """A site as it stands in a file."""

    file: str
    site: Site
    tree: YamlTree

    def line(self, place: SitePath | None) -> int | None:
        """The line of a place in the file."""
        return None if place is None else self.tree.line(place)


def find_site_file(named: Path | None) -> Path:
    """The file that was named, else the only site file of a folder: the one that was named, or this one.
    Raises BadInput."""
    if str(named) == "-":
        raise bad_file("-", "found standard input; expected a file, so that messages can name its lines")
    if named is not None and not os.path.isdir(named):  # noqa: PTH112  (Path.is_dir raises where it may not look)
        return named
    folder = named or Path()
    try:
        found = sorted(folder.glob(PATTERN))
    except OSError as error:
        raise bad_file(folder, not_readable(error)) from None
    if len(found) == 1:
        return found[0]
    if found:
        listed = ", ".join(map(str, found))
        raise bad_file(folder, f"found {len(found)} site files; expected the name of one: {listed}")
    if not os.access(folder, os.R_OK | os.X_OK):
        raise bad_file(folder, NOT_PERMITTED)
    raise bad_file(folder, f"found no site file; expected one ({PATTERN}); to write one: eager-lantern new")


@guarded
def read_site(path: Path) -> SiteFile:
    """Read and check a site file. Raises BadInput with everything that is wrong in it."""
    return parse_site(as_typed(path), read_text(path))


def all_filled_in(source: SiteFile, why: str) -> None:
    """Raises BadInput with every line of a site that has a question mark for an address, and ``why`` that is needed."""
    left = [*open_places(source.site)]
    if left:
        message = f"found ?, an address that is not filled in; expected one: {why}"
        raise BadInput(source.file, *(InputProblem(source.line(each) or 0, message) for each in left))


def as_typed(path: Path) -> str:
    """What a file is called in messages and in commands to copy, where nothing begins as an option does."""
    return f"./{path}" if str(path).startswith("-") else str(path)


@guarded
def parse_site(file: str, text: str) -> SiteFile:
    """The same for a text that stands in no file; ``file`` is what errors call it."""
    tree = YamlTree(file, text)
    data = with_placeholders(tree.data)
    try:
        site = msgspec.convert(data, Site, dec_hook=from_text)
    except msgspec.ValidationError as error:
        found = list(islice(faults(Site, data, ()), MOST_COUNTED)) or [((), str(error))]
    else:
        found = [(each.place, each.message) for each in islice(problems(site), MOST_COUNTED)]
        if not found:
            return SiteFile(file, site, tree)
    raise BadInput(file, *(InputProblem(tree.line(place), message, key_at(place)) for place, message in found))
