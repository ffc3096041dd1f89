"""A device's format: one module recognises, reads and writes it, and states so in a value ``FORMAT``.

A module of this folder (or of a folder in it) that has a ``FORMAT`` is in the register; nothing else has to name it.
Reading is all or nothing: what a format does not understand is listed as skipped, and where it could change an answer,
that answer is unknown.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from msgspec import Struct

from ...core.changes.adopted import DeviceConfig, Direction
from ...core.model.site import Gateway, Service, Site
from ...core.model.unfilled import open_places
from ...core.sheets.sheet import distinct, slug
from ..reading import bad_file


class DeviceTarget(Struct, frozen=True):
    """What files are read for: a device of the site, and what their own words leave open. Without a ``direction`` a
    file is read for all that it states; ``outside`` and ``inside`` are names of interfaces, ``service`` is whose
    settings are wanted where a server has several. ``beside`` are the texts of all files that are read together: some
    state nothing of a site, and what another leaves open."""

    site: Site
    device: str
    direction: Direction | None = None
    outside: str = ""
    inside: str = ""
    service: str = ""
    beside: tuple[str, ...] = ()

    @property
    def services(self) -> tuple[Service, ...]:
        """The services that settings may be of."""
        return tuple(each for each in self.site.services if self.service in ("", each.name))

    @property
    def gateway(self) -> Gateway | None:
        """The gateway that the device is; None for a host."""
        return next((each for each in self.site.gateways if each.name == self.device), None)


class WrittenFile(Struct, frozen=True):
    """A file for a device or a service (``owner``), to load or to put into its own configuration."""

    name: str
    owner: str
    text: str


def _writes_nothing(site: Site) -> tuple[WrittenFile, ...]:
    return ()


def _has_no_relatives(text: str) -> str:
    return ""


@dataclass(frozen=True)
class DeviceFormat:
    """``title`` names it in a sentence, ``obtained`` is how an administrator gets such a text, ``omits`` what it
    does not show, or what is not read of it.

    ``recognises`` looks at a file's name and text. ``reads`` takes all files of the format together, by their names,
    and raises BadInput. ``writes`` makes a site's files, which end with ``endings``. ``relative`` recognises a text
    that is close and cannot be read, and states what to give instead; empty for any other.
    """

    name: str
    title: str
    obtained: str
    recognises: Callable[[str, str], bool]
    reads: Callable[[Mapping[str, str], DeviceTarget], list[DeviceConfig]]
    writes: Callable[[Site], tuple[WrittenFile, ...]] = _writes_nothing
    endings: tuple[str, ...] = ()
    relative: Callable[[str], str] = _has_no_relatives
    omits: str = ""


def one_by_one(
    read: Callable[[str, str], DeviceConfig],
) -> Callable[[Mapping[str, str], DeviceTarget], list[DeviceConfig]]:
    """The reader of a format whose files are read each on its own, whatever they are for."""
    return lambda texts, target: [read(file, text) for file, text in texts.items()]


def of_a_router(
    read: Callable[[str, str, DeviceTarget], list[DeviceConfig]],
) -> Callable[[Mapping[str, str], DeviceTarget], list[DeviceConfig]]:
    """The reader of a router's own configuration, of which each file is read on its own."""

    def reads(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
        if target.gateway is None:
            file = next(iter(texts))
            raise bad_file(file, "found the configuration of a router; expected a gateway of the site as --device")
        return [each for file, text in texts.items() for each in read(file, text, target)]

    return reads


def for_each_service(ending: str, text_of: Callable[[Site, Service], str]) -> Callable[[Site], tuple[WrittenFile, ...]]:
    """The writer of a format that has a file for each service; an empty text is no file, and a service of which an
    address is not filled in has none."""

    def write(site: Site) -> tuple[WrittenFile, ...]:
        stems = distinct(slug(each.name) for each in site.services)
        texts = ((each, stem, text_of(site, each)) for each, stem in zip(site.services, stems, strict=True))
        whole = ((each, stem, text) for each, stem, text in texts if text and not any(open_places(each)))
        return tuple(WrittenFile(f"{stem}.{ending}", each.name, text) for each, stem, text in whole)

    return write
