"""The kinds of client that there are, tried on a site that describes none: where they stand, who opens the data
connections, and whether they ask for TLS."""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ..model.consistency import problems
from ..model.entries import Typed
from ..model.site import INTERNET, Attachment, Client, Gateway, Mode, Network, Promise, Service, Site, Tls
from ..network.topology import Topology, free_address
from ..values.addresses import Address, Addresses, AddressSet
from .endpoints import entrances
from .forecast import Forecast
from .session import predict

PUBLIC, TRANSLATED = "on the internet, public address", "on the internet, behind a router that translates"
INSIDE = "on the server's own network"
_HOME = AddressSet.parse("192.168.222.0/24")


class ClientKind(Struct, frozen=True):
    """One kind of client, and what is predicted of it. ``clear`` is a client that does not ask for TLS where the
    service leaves it the choice."""

    service: str
    stands: str
    mode: Mode | None
    extended: bool
    clear: bool
    forecast: Forecast


def kinds_of_client(site: Site) -> tuple[ClientKind, ...]:
    """Every kind of client with every service for files."""
    return tuple(kind for each in site.services if each.protocol != "other" for kind in _kinds(site, each))


def _kinds(site: Site, service: Service) -> Iterator[ClientKind]:
    securities = (False, True) if service.tls.mode == "explicit" and not service.tls.required else (False,)
    modes: tuple[tuple[Mode | None, bool], ...] = ((None, False),)
    if service.protocol == "ftp":
        modes = (("passive", False), ("passive", True), ("active", False))
    for stands, made in _client_places(site):
        for clear in securities:
            for mode, extended in modes:
                client = made.clients[-1]
                tried = replace(made, clients=(replace(client, modes=(mode or "passive",), uses_epsv=extended),))
                tried = _in_clear(tried, service.name) if clear else tried
                forecast = predict(
                    Topology(tried), Promise(client=client.name, service=service.name, mode=mode), ("services",)
                )
                yield ClientKind(service.name, stands, mode, extended, clear, forecast)


def _in_clear(site: Site, name: str) -> Site:
    """The site as a session without TLS meets it."""
    return replace(
        site, services=tuple(replace(each, tls=Tls()) if each.name == name else each for each in site.services)
    )


def _client_places(site: Site) -> Iterator[tuple[str, Site]]:
    """The site with one client more, for each place that a client may stand at."""
    topology = Topology(site)
    doors = entrances(topology, INTERNET)
    four = tuple(each for each in doors if each.family == 4) or doors
    if not four:
        return
    family = four[0].family
    public = free_address(topology, INTERNET, family)
    if public is not None:
        client = Client(name="anybody", network=INTERNET, address=Addresses((public,)), reaches=Typed(Addresses(four)))
        yield PUBLIC, replace(site, clients=(client,))
        if family == 4:
            yield TRANSLATED, _behind_a_router(site, public, four)
    inside = free_address(topology, site.server.network, site.server.address.each[0].family)
    if inside is not None and site.server.network != INTERNET:
        own = Typed(Addresses(site.server.address.each[:1]))
        client = Client(name="anybody", network=site.server.network, address=Addresses((inside,)), reaches=own)
        yield INSIDE, replace(site, clients=(client,))


def _behind_a_router(site: Site, public: Address, doors: tuple[Address, ...]) -> Site:
    first = Address(_HOME.lowest + 1)
    router = Gateway(
        name="anybody's router",
        outside=Attachment(network=INTERNET, address=Addresses((public,))),
        inside=Attachment(network="anybody's home", address=Addresses((first,))),
        translate="outward",
    )
    home = Network(name="anybody's home", subnet=_HOME)
    client = Client(
        name="anybody",
        network=home.name,
        address=Addresses((Address(_HOME.lowest + 9),)),
        reaches=Typed(Addresses(doors)),
    )
    made = replace(site, networks=(*site.networks, home), gateways=(*site.gateways, router), clients=(client,))
    return made if not problems(made) else replace(site, clients=(client,))
