"""The site as a survey of its server has it: what was seen in place of what the file says, and nothing else touched."""

from msgspec.structs import replace

from ..model.site import OPEN, Gateway, HostFilter, Server, Site
from ..observed.survey import Survey
from ..values.addresses import Address, Addresses
from .beside_site import outermost
from .conclusions import OF_ROUTERS, outside_of
from .mapped import forwards_of


def as_surveyed(site: Site, survey: Survey) -> Site:
    """The site with the server's address and own ports as they are, without its filter where none is active, with the
    outside address of its last router and the forwards that its own router lists."""
    nearest = _nearest(site, survey)
    last = outermost(site, site.server)
    gateways = []
    for each in site.gateways:
        found = each
        if nearest is not None and each.name == nearest.name:
            found = _as_told(found, survey)
        if last is not None and each.name == last[0].name and nearest is not None and each.name != nearest.name:
            found = _at(found, outside_of(survey))
        gateways.append(found)
    return replace(site, gateways=tuple(gateways), server=_server(site.server, survey))


def _nearest(site: Site, survey: Survey) -> Gateway | None:
    """The gateway that is the router of the survey, else the only one on the server's network."""
    inside = [each for each in site.gateways if each.inside.network == site.server.network]
    named = [each for each in inside if survey.router is not None and survey.router in each.inside.address]
    return named[0] if named else inside[0] if len(inside) == 1 else None


def _as_told(gateway: Gateway, survey: Survey) -> Gateway:
    """The router by its own word; by what is seen outside where it has none."""
    told = tuple(each.address for each in survey.outside if each.means in OF_ROUTERS and each.address.family == 4)
    found = _at(gateway, told[:1] or outside_of(survey))
    return replace(found, forwards=forwards_of(survey.mappings)) if survey.mappings else found


def _at(gateway: Gateway, seen: tuple[Address, ...]) -> Gateway:
    """The gateway at an outside address that was seen; as it is where it has one of them."""
    own = gateway.outside.address.each
    if not seen or set(own) & set(seen) or not gateway.outside.address:
        return gateway
    others = tuple(each for each in own if each.family != seen[0].family)
    return replace(gateway, outside=replace(gateway.outside, address=Addresses((seen[0], *others))))


def _server(server: Server, survey: Survey) -> Server:
    way = survey.way_out(4)
    held = {each.address for each in survey.host.addresses}
    if survey.told("addresses") and held and not held & set(server.address.each) and way and way.source:
        others = tuple(each for each in server.address.each if each.family != 4)
        server = replace(server, address=Addresses((way.source, *others)))
    ports = survey.host.local_ports
    if ports is not None and server.own_ports not in (ports.ports, ports.free):
        server = replace(server, local_ports=ports.free)
    if survey.host.filter is not None and not survey.host.filter.active:
        server = replace(server, filter=HostFilter(OPEN, server.filter.outgoing))
    return server
