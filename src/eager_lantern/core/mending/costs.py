"""What a change costs: whose device it is on, and what it gives up."""

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

from ..model.change import Change
from ..model.site import INTERNET, Site
from ..network.topology import Topology

Owner = Literal["server", "own-device", "name", "client", "other-device"]


class Costs(Struct, frozen=True):
    """What a change costs by whose it is, and what is added where it is of a key by which a protection is given up."""

    owners: Mapping[Owner, float]
    gives_up: Mapping[str, float]

    def of(self, site: Site, change: Change) -> float:
        """The cost of one change of a site."""
        return self.owners[owner_of(site, change)] + self.gives_up.get(str(change.place[-1]), 0.0)


def owner_of(site: Site, change: Change) -> Owner:
    """Whose device a change is on: the site's own are those between its server and the internet."""
    match change.place[0]:
        case "gateways":
            own = own_gateways(site)
            return "own-device" if site.gateways[int(change.place[1])].name in own else "other-device"
        case "clients" | "habits":
            return "client"
        case "names":
            return "name"
        case _:
            return "server"


def own_gateways(site: Site) -> frozenset[str]:
    """The gateways that the server is behind: those on its way to the internet, and all others of its own network."""
    chain = Topology(site).chain(site.server.network, INTERNET) or ()
    beside = {each.name for each in site.gateways if each.inside.network == site.server.network}
    return frozenset(beside | {each.device.name for each in chain})
