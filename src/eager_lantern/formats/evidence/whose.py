"""Whose an address is: the client of a site that comes with it."""

from ...core.diagnosis.situation import doors_of
from ...core.model.site import INTERNET, Site
from ...core.network.topology import Topology
from ...core.values.addresses import Address, address_or_none


def client_at(site: Site, text: str) -> str:
    """The client that comes with an address: its own, or the outside one of a device that it is behind. Of several
    behind one device the first that is promised something; of an address that is nobody's, anybody on the internet.
    Empty for the server's own and for what is no address."""
    address = address_or_none(text.removeprefix("::ffff:"))
    if address is None or address in site.server.address or address.kind == "loopback":
        return ""
    for each in site.clients:
        if address in each.address:
            return each.name
    for gateway in site.gateways:
        if address in (*gateway.outside.address.each, *gateway.inside.address.each):
            return _first_behind(site, gateway.inside.network)
    return INTERNET if address.kind == "public" else ""


def _first_behind(site: Site, network: str) -> str:
    promised = {each.client for each in site.promises}
    behind = sorted(
        (each for each in site.clients if each.network == network), key=lambda each: each.name not in promised
    )
    return behind[0].name if behind else ""


def is_own(site: Site, address: Address | None) -> bool:
    """Whether an address is the server's, or one that the devices before it have outside."""
    return address is not None and address in doors_of(Topology(site))
