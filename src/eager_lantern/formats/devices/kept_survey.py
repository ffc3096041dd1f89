"""What a survey that was kept knows of a device (``survey --save``): the port mappings of a router, the filter, the
listeners and the own ports of a host."""

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue
from ...core.model.site import Forward
from ...core.observed.conclusions import forwards_of
from ...core.observed.survey import Survey
from ..damage import guarded
from ..reading import bad_file
from ..results.kept import looks_kept, read_kept
from ..results.survey import SurveyResult, survey_of
from .cells import tidy_name
from .format import DeviceFormat, DeviceTarget
from .listeners import listener_config
from .packet_filter.host import read_ruleset
from .packet_filter.routing import Routing


def mapped_forwards(survey: Survey) -> tuple[ParsedValue, ...]:
    """The mappings that the router lists, as forwards with names that a site file can have."""
    return tuple(ParsedValue((), _tidied(each), 0) for each in forwards_of(survey.mappings))


def _tidied(forward: Forward) -> Forward:
    return replace(forward, name=tidy_name(forward.name))


def surveyed_configs(file: str, survey: Survey, target: DeviceTarget) -> list[DeviceConfig]:
    """All that a survey knows of a device, which may be nothing. Raises BadInput for a filter that is damaged."""
    if target.gateway is not None:
        values = mapped_forwards(survey)
        return [DeviceConfig(file, "forwards", values)] if values else []
    return list(_of_host(file, survey, target))


def _of_host(file: str, survey: Survey, target: DeviceTarget) -> Iterator[DeviceConfig]:
    host, way = survey.host, survey.way_out(4)
    if host.filter is not None and host.filter.listing:
        interface = target.inside or (way.interface if way is not None else "")
        routing = Routing.of(host.filter.routing, *target.beside)
        yield from read_ruleset(file, host.filter.listing, target.direction, interface, routing)
    if survey.learnt("listeners"):
        yield listener_config(file, [(each, 0) for each in host.listeners], target)
    server = target.site.server
    if host.local_ports is not None and server.name == target.device:
        seen = host.local_ports
        if server.own_ports not in (seen.ports, seen.free):
            yield DeviceConfig(file, "switches", (ParsedValue(("local_ports",), seen.free, 0),))


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    return [config for file, text in texts.items() for config in _configs(file, text, target)]


@guarded
def _configs(file: str, text: str, target: DeviceTarget) -> list[DeviceConfig]:
    found = read_kept(file, text, "survey")
    assert isinstance(found, SurveyResult)
    configs = surveyed_configs(file, survey_of(found), target)
    if not configs:
        what = "mappings of a router" if target.gateway is not None else "filter and no listeners of a host"
        raise bad_file(file, f"found no {what}; expected a survey that lists some")
    return configs


FORMAT = DeviceFormat(
    "kept-survey", "a kept survey", "eager-lantern survey --save FILE",
    recognises=lambda file, text: looks_kept(text, "survey"), reads=_read,
)  # fmt: skip
