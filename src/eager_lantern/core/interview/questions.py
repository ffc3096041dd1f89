"""The questions from which a first site file is written, in the order in which the work is done.

A question knows how to read its answer, what to propose, and whether it has to be asked at all:
what follows from earlier answers is derived. Answers are kept as the text of their option, so that
the same words can be typed at the prompt and in a script.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from ipaddress import ip_network
from typing import Any

from msgspec import Struct

from ..model.site import ETHERNET_BYTES, default_own_ports
from ..sizing.demand import clear_range, ports_at_once
from ..values.addresses import UNKNOWN_TEXT, Address, AddressSet, Family, address_or_none
from ..values.phrases import article
from ..values.ports import PortSet
from . import answer

Answers = Mapping[str, str]
PROTOCOLS = {
    "ssh": ("sftp", "none", 22),
    "tls": ("ftp", "explicit", 21),
    "implicit": ("ftp", "implicit", 990),
    "plain": ("ftp", "none", 21),
}
"""What all clients can do: the protocol, the mode of TLS, and the usual control port of each."""
BEHIND = ("router", "firewall", "cloud", "nothing")
"""What may stand between the server and the internet."""
SYSTEMS = ("linux", "windows", "other")
LEASES = ("static", "reserved", "dynamic")
CATEGORIES = ("private", "domain", "public")
"""What Windows calls the kinds of networks that its filter has rules for."""


class QuestionText(Struct, frozen=True, forbid_unknown_fields=True):
    """The words of a question: ``explains`` why it is asked, ``more`` is shown on request, ``choices`` are what each
    answer means where there are only some, ``unasked`` is what is written where nobody is asked and nothing can be
    proposed."""

    text: str
    explains: str
    more: str = ""
    unasked: str = ""
    choices: Mapping[str, str] = {}


def _all_choices(answers: Answers, choices: Mapping[str, str]) -> Mapping[str, str]:
    return choices


def _always(answers: Answers) -> bool:
    return True


def _always_fits(text: str, answers: Answers) -> str:
    return ""


class Question(Struct, frozen=True):
    """One question. ``read`` gives the answer in its usual form, or raises ValueError that states what
    would be right; ``propose`` gives what to take where nothing is answered, or nothing; ``applies`` whether it is
    asked at all, which the answers to ``depends_on`` settle; ``allow`` the choices that earlier answers leave; ``fits``
    states why an answer cannot be together with those before it."""

    key: str
    words: QuestionText
    read: Callable[[str], str]
    propose: Callable[[Answers], str]
    applies: Callable[[Answers], bool] = _always
    depends_on: tuple[str, ...] = ()
    allow: Callable[[Answers, Mapping[str, str]], Mapping[str, str]] = _all_choices
    fits: Callable[[str, Answers], str] = _always_fits

    def choices(self, answers: Answers) -> Mapping[str, str]:
        """The answers that earlier ones leave, with what each means; none where it is no choice."""
        return self.allow(answers, self.words.choices)

    def taken(self, text: str, answers: Answers) -> str:
        """The answer in its usual form. Raises ValueError for what cannot be read or is ruled out already."""
        found = self.read(text)
        left = self.choices(answers)
        if left and found not in left:
            raise ValueError(f"found “{found}” with the answers before it; expected {answer.either_of(tuple(left))}")
        if trouble := self.fits(found, answers):
            raise ValueError(trouble)
        return found

    def settled_by(self, answers: Answers) -> dict[str, str]:
        """The answers before it that settle whether it is asked."""
        return {each: answers[each] for each in self.depends_on if each in answers}


def subnet_around(address: str) -> str:
    """The network that a host of this address most likely stands on: a /24, or a /64."""
    length = 24 if Address.parse(address).family == 4 else 64
    return str(ip_network(f"{address}/{length}", strict=False))


def _first_host(answers: Answers) -> str:
    """The address that a router most often has: the first of the network."""
    lowest = AddressSet.parse(answers["subnet"]).lowest
    first = Address(lowest + 1)
    return str(first) if str(first) != answers["address"] else str(Address(lowest + 2))


def accounts_of(answers: Answers) -> list[str]:
    """The names of the accounts."""
    return answers["account"].split(", ")


def _folders_of(answers: Answers) -> str:
    """A folder of its own for each account, where its system keeps such things."""
    top = "C:\\Transfers\\" if answers["system"] == "windows" else "/srv/"
    return ", ".join(
        top + (re.sub(r"[^a-z0-9]+", "-", each.lower()).strip("-") or "files") for each in accounts_of(answers)
    )


def _folders_fit(text: str, answers: Answers) -> str:
    folders, accounts = text.split(", "), accounts_of(answers)
    if len(folders) != len(accounts):
        found = f"found {len(folders)} for {len(accounts)} accounts"
        return f"{found}; expected a folder for each, as in {_folders_of(answers)}"
    for each in folders:
        if answers["system"] != "other" and answer.is_windows_path(each) != _is_windows(answers):
            found = f"found “{each}” on a server that runs {answers['system']}"
            return f"{found}; expected a whole path, as in {_folders_of(answers)}"
    return ""


def _rights_fit(text: str, answers: Answers) -> str:
    sets, accounts = text.split("; "), accounts_of(answers)
    if len(sets) not in (1, len(accounts)):
        found = f"found rights for {len(sets)} of {len(accounts)} accounts"
        return f"{found}; expected those of all, or a list for each: list, read; list, write"
    return ""


def _burst_fits(text: str, answers: Answers) -> str:
    if int(text) > int(answers["client_count"]):
        return (
            f"found {text}, more than all {answers['client_count']} clients; expected {answers['client_count']} at most"
        )
    return ""


ACCOUNTED_FOR = 10
"""Clients at once that a small range is proposed for."""
MOST_SINGLE_ENTRIES = 100
"""Ports that are entered one by one at the most: an evening's work, and where many routers' tables end."""


def _singles_fit(text: str, answers: Answers) -> str:
    ports = PortSet.parse(answers["ports"])
    if text == "no" and len(ports) > MOST_SINGLE_ENTRIES:
        low = ports.lowest
        smaller = f"--ports {low}-{low + 2 * ACCOUNTED_FOR - 1}"
        return (
            f"found {ports}: {len(ports)} entries of one port each; expected {MOST_SINGLE_ENTRIES} at most: take a "
            f"smaller range ({smaller} carries {ACCOUNTED_FOR} clients at once), or ssh, which needs one port"
        )
    return ""


def _proposed_range(registered: PortSet) -> Callable[[Answers], str]:
    """A clear range for the worst burst: each client may hold a port while another of its own rests."""

    def propose(answers: Answers) -> str:
        taken = default_own_ports(answers["system"]) | PortSet.parse(answers["control_port"])
        return str(clear_range(ports_at_once(int(answers["burst"])), taken, registered).ports)

    return propose


def _is_ftp(answers: Answers) -> bool:
    return PROTOCOLS[answers["clients_can"]][0] == "ftp"


def is_translated(answers: Answers) -> bool:
    """Whether clients see another address than the server's own."""
    return answers["behind"] in ("router", "cloud")


def has_network(answers: Answers) -> bool:
    """Whether the server stands on a network of its own, behind a device."""
    return answers["behind"] != "nothing"


def _likely_device(answers: Answers) -> str:
    return "router" if Address.parse(answers["address"]).kind != "public" else "firewall"


def _device_name(answers: Answers) -> str:
    return "cloud-filter" if answers["behind"] == "cloud" else answers["behind"]


def outside_address(answers: Answers) -> str:
    """The outside address, or a question mark while it is not known."""
    return UNKNOWN_TEXT if answers["outside"] == "unknown" else answers["outside"]


def _outside_family(answers: Answers) -> Family:
    """The family of the address that clients see; that of the server's own while it is not known."""
    known = address_or_none(_seen_at(answers))
    return (known or Address.parse(answers["address"])).family


def _seen_at(answers: Answers) -> str:
    return outside_address(answers) if is_translated(answers) else answers["address"]


def _places_left(answers: Answers, choices: Mapping[str, str]) -> Mapping[str, str]:
    """What may stand in front of the server, as far as its address and what clients can leave it open."""
    private = Address.parse(answers["address"]).kind != "public"
    ruled_out = {"nothing"} if answers["clients_can"] == "plain" else set()
    if private and is_open(answers):
        ruled_out |= {"nothing", "firewall"}
    return {key: words for key, words in choices.items() if key not in ruled_out}


def _has_other_port(answers: Answers) -> bool:
    """Whether a device in front can show the service at another port than its own."""
    return answers["behind"] == "router" and is_open(answers)


def _is_shared_perhaps(answers: Answers) -> bool:
    return answers["behind"] == "router" and _outside_family(answers) == 4


def _may_have_phones(answers: Answers) -> bool:
    named = is_open(answers) and is_name(answers["typed"])
    return named and _outside_family(answers) == 4 and not has_ipv6(answers)


def is_name(typed: str) -> bool:
    """Whether what clients type is a name: no address, and no question mark for one."""
    return bool(typed) and typed != UNKNOWN_TEXT and address_or_none(typed) is None


def _administers_from(answers: Answers) -> str:
    return answers["subnet"] if answers["behind"] in ("router", "firewall") else ""


def is_open(answers: Answers) -> bool:
    """Whether clients on the internet are let in: never to a login in clear."""
    return answers["clients_can"] != "plain"


def fixed(text: str) -> Callable[[Answers], str]:
    """The same proposal whatever was answered."""
    return lambda answers: text


def _router_with_ranges(answers: Answers) -> bool:
    return answers["behind"] == "router" and _is_ftp(answers) and is_open(answers)


def questions(registered: PortSet, texts: Mapping[str, QuestionText]) -> Iterator[Question]:
    """All questions in order; each may look at the answers before it. ``registered`` are the ports that belong to
    services by the registry, ``texts`` the words of each question by its key."""
    address, network = answer.address, (lambda text: str(AddressSet.parse(text)))
    yes_no, lease = answer.choice(("yes", "no")), answer.choice(LEASES)

    def ask(key: str, *rest: Any, **more: Any) -> Question:
        return Question(key, texts[key], *rest, **more)

    can, behind = ("clients_can",), ("behind",)
    both = ("behind", "clients_can")
    yield ask("site", answer.name, fixed(""))
    yield ask("clients_can", answer.choice(tuple(PROTOCOLS)), fixed("tls"))
    yield ask("control_port", answer.port, lambda answers: str(PROTOCOLS[answers["clients_can"]][2]))
    yield ask("server", answer.name, fixed("file-server"))
    yield ask("address", address, fixed(""))
    yield ask("lease", lease, fixed("reserved"))
    yield ask("system", answer.choice(SYSTEMS), fixed("linux"))
    yield ask("category", answer.choice(CATEGORIES), fixed("private"), _is_windows, ("system",))
    yield ask("client_count", answer.count, fixed("10"), _is_ftp, can)
    yield ask("burst", answer.count, lambda answers: answers["client_count"], _is_ftp, can, fits=_burst_fits)
    yield ask("ports", answer.ports, _proposed_range(registered), _is_ftp, can)
    yield ask("behind", answer.choice(BEHIND), _likely_device, allow=_places_left)
    yield ask("subnet", network, lambda answers: subnet_around(answers["address"]), has_network, behind)
    yield ask("device", answer.name, _device_name, has_network, behind)
    yield ask("device_inside", address, _first_host, has_network, behind)
    yield ask("outside", answer.outside, fixed(""), is_translated, behind)
    yield ask("outside_lease", lease, fixed("static"), is_translated, behind)
    yield ask("share", answer.share, fixed("all"), _is_shared_perhaps, behind)
    yield ask(
        "mtu", answer.packet_size, fixed(str(ETHERNET_BYTES)), lambda answers: answers["behind"] == "router", behind
    )
    yield ask("outside_port", answer.port, lambda answers: answers["control_port"], _has_other_port, both)
    yield ask("ranges", yes_no, fixed("yes"), _router_with_ranges, both, fits=_singles_fit)
    yield ask("ipv6", answer.ipv6_or_none, fixed("none"), _may_have_ipv6, ("address", *both))
    yield ask("typed", answer.dialled, _seen_at, is_open, can)
    yield ask("inside", yes_no, fixed("yes"), lambda answers: has_network(answers) and is_open(answers), both)
    yield ask("phones", yes_no, fixed("no"), _may_have_phones, ("clients_can", "typed", "ipv6"))
    yield ask("inside_first", yes_no, fixed("no"), _may_start_inside, both)
    yield ask("account", answer.names, fixed("station"))
    yield ask("folder", answer.folders, _folders_of, fits=_folders_fit)
    yield ask("rights", answer.rights_of_each, fixed("list, read, write"), fits=_rights_fit)
    yield ask("admin_port", answer.port_or_none, _likely_admin_port, _is_no_ssh, can)
    yield ask("admin_from", answer.one_place, _administers_from, is_administered, ("admin_port",))


def _is_windows(answers: Answers) -> bool:
    return answers["system"] == "windows"


def _may_have_ipv6(answers: Answers) -> bool:
    """Whether a second family can be described: a server of IPv4 on a line that everybody can come by."""
    return is_open(answers) and Address.parse(answers["address"]).family == 4 and answers["behind"] != "cloud"


def has_ipv6(answers: Answers) -> bool:
    """Whether clients reach the server by IPv6 as well."""
    return answers.get("ipv6", "none") != "none"


def _may_start_inside(answers: Answers) -> bool:
    return answers["clients_can"] in ("tls", "implicit") and has_network(answers)


def first_stage(answers: Answers) -> dict[str, str]:
    """The same site before it is opened: logins in clear, from the server's own network alone."""
    left_out = ("outside_port", "ranges", "ipv6", "typed", "inside", "phones", "inside_first")
    return {key: each for key, each in answers.items() if key not in left_out} | {"clients_can": "plain"}


def _likely_admin_port(answers: Answers) -> str:
    usual = "3389" if _is_windows(answers) else "22"
    return "none" if answers["control_port"] == usual else usual


def _is_no_ssh(answers: Answers) -> bool:
    return PROTOCOLS[answers["clients_can"]][0] != "sftp"


def refusal(answers: Answers) -> str:
    """Why no site is written from these answers; empty where one is."""
    if not is_open(answers) and not has_network(answers):
        return (
            "a login in clear across the internet: let clients use ssh or tls, or put a device in front of the server"
        )
    own = Address.parse(answers["address"])
    from_outside = is_open(answers) or (is_administered(answers) and not is_administered_inside(answers))
    if from_outside and not is_translated(answers) and own.kind != "public":
        return f"{own} is {article(own.kind)} address, which nobody on the internet reaches untranslated: choose router"
    if answers.get("outside") == "unknown" and own.family == 6:
        return f"an outside address that is not known, for {own}: only one of IPv4 may be left open, so enter it"
    if _outside_family(answers) != own.family:
        pair = f"{_seen_at(answers)} outside and {own} inside"
        return f"{pair} are of different families, which no translation joins: enter both as IPv4, or choose firewall"
    known = is_administered(answers) and answers["admin_from"] != "unknown"
    if known and not AddressSet.parse(answers["admin_from"]).of_family(own.family):
        return f"from {answers['admin_from']} nobody administers {own}: they are of different families"
    return _beyond_share(answers)


def _beyond_share(answers: Answers) -> str:
    """Ports that are to be forwarded and belong to other customers, with the question that they are of."""
    if answers.get("share", "all") == "all" or not is_open(answers):
        return ""
    share = PortSet.parse(answers["share"])
    for key in ("outside_port", "ports"):
        wanted = PortSet.parse(answers[key]) if key in answers else PortSet()
        if wanted - share:
            return f"{key.replace('_', ' ')} {wanted} is not all among your ports {share}: choose others"
    return ""


def is_administered(answers: Answers) -> bool:
    """Whether the administrator has a way in of their own."""
    return answers.get("admin_port", "none") != "none"


def is_administered_inside(answers: Answers) -> bool:
    """Whether that way starts on the server's own network."""
    return has_network(answers) and answers.get("admin_from") == answers["subnet"]


def remark(key: str, answer: str) -> str:
    """What is worth saying about an answer at once; mostly nothing."""
    if key == "outside" and answer == "unknown":
        return "A ? is written in its place: put in what the device shows before anything is tested."
    if key == "admin_from" and answer == "unknown":
        return "A ? is written in its place: no rule file is written until you have put in from where you come."
    if key == "outside" and (kind := Address.parse(answer).kind) != "public":
        return (
            f"{answer} is {article(kind)} address: nobody on the internet can reach it. A device in front of this one "
            "translates: ask the provider for a public address (eager-lantern explain outside-address-not-public)."
        )
    if key == "clients_can" and answer == "plain":
        return (
            "Never a login in clear across the internet: it is written so that only the server's own network gets in."
        )
    if key == "lease" and answer == "dynamic":
        return "Let the router reserve it: every forward and rule names it, and breaks on the day it changes."
    if key == "outside_lease" and answer == "dynamic":
        return "Let clients type a name that follows it; check will remind you of what announces the address."
    return ""
