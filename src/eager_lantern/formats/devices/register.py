"""The register of device formats: which of them a file is, what the files of a device state, what a site writes."""

from collections.abc import Iterator, Mapping
from functools import cache
from importlib import import_module
from pkgutil import walk_packages

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig
from ...core.model.site import Site
from ..reading import bad_file
from . import __path__ as _FOLDER
from .format import DeviceFormat, DeviceTarget, WrittenFile


@cache
def formats() -> tuple[DeviceFormat, ...]:
    """Every format, by name."""
    modules = [import_module(each.name) for each in walk_packages(_FOLDER, f"{__package__}.")]
    found = (getattr(each, "FORMAT", None) for each in modules)
    return tuple(sorted((each for each in found if isinstance(each, DeviceFormat)), key=lambda each: each.name))


def recognised(file: str, text: str) -> DeviceFormat:
    """The format of a text. Raises BadInput with what it is instead, or with all that is read."""
    for each in formats():
        if each.recognises(file, text):
            return each
    for each in formats():
        if hint := each.relative(text):
            raise bad_file(file, hint)
    known = ", ".join(each.name for each in formats())
    raise bad_file(file, f"found no format that is read here; expected one of: {known} (docs/devices.md)")


def read_files(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    """What the files state about a device, by file name. Raises BadInput."""
    groups: dict[str, tuple[DeviceFormat, dict[str, str]]] = {}
    for file, text in texts.items():
        found = recognised(file, text)
        groups.setdefault(found.name, (found, {}))[1][file] = text
    target = replace(target, beside=tuple(texts.values()))
    configs = [config for each, mine in groups.values() for config in each.reads(mine, target)]
    _refuse_doubles(configs)
    return configs


def _refuse_doubles(configs: list[DeviceConfig]) -> None:
    """Of two files with the forwards, or the rules of one direction, one would be ignored."""
    first: dict[tuple[str, str], str] = {}
    for each in configs:
        key = (each.subject, each.direction or "")
        if each.subject in ("forwards", "rules") and first.setdefault(key, each.file) != each.file:
            message = f"found {each.subject}, which {first[key]} has as well; expected one file with them"
            raise bad_file(each.file, message)


def files_of(site: Site) -> tuple[WrittenFile, ...]:
    """Every file that a format writes for the site."""
    return tuple(written for each in formats() for written in each.writes(site))


def endings() -> Iterator[str]:
    """The ends of the names of such files."""
    return (ending for each in formats() for ending in each.endings)
