"""The questions from which a first site file is written, in the order in which the work is done.

A question knows how to read its answer, what to propose, and whether it has to be asked at all:
what follows from earlier answers is derived. Answers are kept as the text of their option, so that
the same words can be typed at the prompt and in a script.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from ipaddress import ip_network

from msgspec import Struct

from ..model.site import ETHERNET_BYTES, default_own_ports
from ..sizing.demand import clear_range, ports_at_once
from ..values.addresses import Address, AddressSet, address_or_none
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
ADVICE = {
    "ssh": "SSH file transfer. One open port, all of it encrypted, nothing to agree on. Best where clients can.",
    "tls": "FTP with explicit TLS. One port and a range of data ports, the same on every device; encrypted.",
    "implicit": "FTP with implicit TLS, for clients that know no other. One port and a range; encrypted.",
    "plain": "FTP in clear. One port and a range; whoever is on the way reads passwords and files.",
}
PLACEHOLDER = {4: "192.0.2.1", 6: "2001:db8::1"}
"""What stands for an outside address that is not known yet: nobody has it (RFC 5737, RFC 3849)."""
SYSTEMS = {
    "linux": "a rule file is written that it can load",
    "windows": "its own outgoing ports are 49152-65535, so that data ports lie below",
    "other": "anything else",
}
LEASES = {
    "static": "entered on the device itself",
    "reserved": "a lease that always gives the same address",
    "dynamic": "a lease (DHCP) that may give another one tomorrow",
}
BEHIND = {
    "router": "a router that translates: clients see its outside address",
    "firewall": "a firewall that does not translate: clients see the server's own address",
    "cloud": "a cloud's filter: an outside address stands for the server's, and rules let ports in",
    "nothing": "nothing: the server stands on the internet itself",
}


class Question(Struct, frozen=True):
    """One question. ``read`` gives the answer in its usual form, or raises ValueError that states what
    would be right; ``propose`` gives what to take where nothing is answered, or nothing. ``choices`` are the answers
    that earlier ones leave, with what each means; ``more`` is shown on request; ``unasked`` is what is written
    where nobody is asked and nothing can be proposed."""

    key: str
    text: str
    explains: str
    read: Callable[[str], str]
    propose: Callable[[Answers], str]
    applies: Callable[[Answers], bool] = lambda answers: True
    choices: Callable[[Answers], Mapping[str, str]] = lambda answers: {}
    more: str = ""
    unasked: str = ""

    def taken(self, text: str, answers: Answers) -> str:
        """The answer in its usual form. Raises ValueError for what cannot be read or is ruled out already."""
        found = self.read(text)
        left = self.choices(answers)
        if left and found not in left:
            raise ValueError(f"“{found}” does not go with the answers before it: write {answer.either_of(tuple(left))}")
        return found


def subnet_around(address: str) -> str:
    """The network that a host of this address most likely stands on: a /24, or a /64."""
    length = 24 if Address.parse(address).family == 4 else 64
    return str(ip_network(f"{address}/{length}", strict=False))


def _first_host(answers: Answers) -> str:
    """The address that a router most often has: the first of the network."""
    lowest = AddressSet.parse(answers["subnet"]).lowest
    first = Address(lowest + 1)
    return str(first) if str(first) != answers["address"] else str(Address(lowest + 2))


def _folder_of(answers: Answers) -> str:
    return "/srv/" + (re.sub(r"[^a-z0-9]+", "-", answers["account"].lower()).strip("-") or "files")


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
    """The outside address, or what stands for it while it is not known."""
    if answers["outside"] != "unknown":
        return answers["outside"]
    return PLACEHOLDER[Address.parse(answers["address"]).family]


def _seen_at(answers: Answers) -> str:
    return outside_address(answers) if is_translated(answers) else answers["address"]


def _places_left(answers: Answers) -> dict[str, str]:
    """What may stand in front of the server, as far as its address and what clients can leave it open."""
    private = Address.parse(answers["address"]).kind != "public"
    ruled_out = {"nothing"} if answers["clients_can"] == "plain" else set()
    if private and is_open(answers):
        ruled_out |= {"nothing", "firewall"}
    return {key: words for key, words in BEHIND.items() if key not in ruled_out}


def _has_other_port(answers: Answers) -> bool:
    """Whether a device in front can show the service at another port than its own."""
    return answers["behind"] == "router" and is_open(answers)


def _is_shared_perhaps(answers: Answers) -> bool:
    return answers["behind"] == "router" and Address.parse(outside_address(answers)).family == 4


def _may_have_phones(answers: Answers) -> bool:
    by_name = is_open(answers) and address_or_none(answers["typed"]) is None
    return by_name and Address.parse(_seen_at(answers)).family == 4


def _administers_from(answers: Answers) -> str:
    return answers["subnet"] if answers["behind"] in ("router", "firewall") else ""


def is_open(answers: Answers) -> bool:
    """Whether clients on the internet are let in: never to a login in clear."""
    return answers["clients_can"] != "plain"


def fixed(text: str) -> Callable[[Answers], str]:
    """The same proposal whatever was answered."""
    return lambda answers: text


def questions(registered: PortSet) -> Iterator[Question]:
    """All questions in order; each may look at the answers before it. ``registered`` are the ports that belong to
    services by the registry."""
    yes_no = answer.choice(("yes", "no"))
    yield Question(
        "site", "What is the site called?", "It heads every page and table.", answer.name, fixed(""),
        more="Any words: the house, the harbour, the project. They can be changed later.", unasked="New site",
    )  # fmt: skip
    yield Question(
        "clients_can", "What can all its clients do?", "Protocol and number of open ports follow from it.",
        answer.choice(tuple(PROTOCOLS)), fixed("tls"), choices=lambda answers: ADVICE,
        more="Take the best that all of them can. One old client decides for all, or gets a service of its own.",
    )  # fmt: skip
    yield Question(
        "control_port", "Which control port?", "The usual one spares every client a setting.",
        answer.port, lambda answers: str(PROTOCOLS[answers["clients_can"]][2]),
        more="The port on the server itself. By which port clients come from outside is asked later.",
    )  # fmt: skip
    yield Question(
        "server", "What is the server called?", "The host that the service runs on.", answer.name, fixed("file-server"),
        more="A name for the pages. It need not be the one in the name service.",
    )  # fmt: skip
    yield Question(
        "address", "Which address has the server itself?", "On its own network, as its own settings show it.",
        lambda text: str(Address.parse(text)), fixed(""),
        more="On Linux: ip address. On Windows: ipconfig. Not the address that a web page shows you.",
        unasked="192.168.1.20",
    )  # fmt: skip
    yield Question(
        "lease", "Does that address stay?", "Every forward and rule names it.",
        answer.choice(tuple(LEASES)), fixed("reserved"), choices=lambda answers: LEASES,
        more="If the server asks for its address (DHCP), let the router reserve it, and answer reserved.",
    )  # fmt: skip
    yield Question(
        "system", "What does it run?", "Which ports it uses for itself follows from it.",
        answer.choice(tuple(SYSTEMS)), fixed("linux"), choices=lambda answers: SYSTEMS,
        more="Data ports must stay clear of those that the system takes for its own connections.",
    )  # fmt: skip
    yield Question(
        "client_count", "How many clients are there?", "The size of the data port range follows from it.",
        answer.count, fixed("10"), _is_ftp,
        more="Programs that may be connected, not people: one person may open four connections.",
    )  # fmt: skip
    yield Question(
        "burst", "How many of them may start at the same moment?", "On the hour, perhaps all of them.",
        answer.count, lambda answers: answers["client_count"], _is_ftp,
        more="What runs by a clock starts together. If you do not know: all of them.",
    )  # fmt: skip
    yield Question(
        "ports", "Which data ports?", "Two for each client at once, clear of the system's own ports.",
        answer.ports, _proposed_range(registered), _is_ftp,
        more="Every listing and every transfer takes one. The same range goes into every device: write it down once.",
    )  # fmt: skip
    yield Question(
        "behind", "What stands between the server and the internet?", "Where ports have to be opened follows from it.",
        answer.choice(tuple(BEHIND)), _likely_device, choices=_places_left,
        more="Two devices in a row? Describe the outer one here and add the other in the file.",
    )  # fmt: skip
    yield Question(
        "subnet", "Which network does the server stand on?", "Administration is let in from there.",
        lambda text: str(AddressSet.parse(text)), lambda answers: subnet_around(answers["address"]), has_network,
        more="An address and a mask of 255.255.255.0 are written as 10.61.8.0/24.",
    )  # fmt: skip
    yield Question(
        "device", "What is that device called?", "As its page is headed.", answer.name, _device_name, has_network,
        more="A name for the pages; the model's name will do.",
    )  # fmt: skip
    yield Question(
        "device_inside", "Which address has it inside?", "The server's way out (its default route).",
        lambda text: str(Address.parse(text)), _first_host, has_network,
        more="On Linux: ip route, the word after “default via”. On Windows: ipconfig, default gateway.",
    )  # fmt: skip
    yield Question(
        "outside", "Which address has it outside?", "As its own page shows it; or unknown, where it is not known yet.",
        answer.outside, fixed(""), is_translated,
        more="Its page calls it WAN or internet address. If a web page shows you another one, there is a second "
        "translation in front of it: answer with what the device itself shows.",
        unasked="unknown",
    )  # fmt: skip
    yield Question(
        "outside_lease", "Does that address stay?", "What is announced and published names it.",
        answer.choice(tuple(LEASES)), fixed("static"), is_translated, choices=lambda answers: LEASES,
        more="Most private lines get another address now and then (dynamic), unless a fixed one was ordered.",
    )  # fmt: skip
    yield Question(
        "share", "Which ports of that address are yours?", "All of them, unless other customers share it.",
        answer.share, fixed("all"), _is_shared_perhaps,
        more="Some providers give one address to several customers, each with ports of its own (MAP-E, lightweight "
        "4over6). The device's page or the provider states which.",
    )  # fmt: skip
    yield Question(
        "mtu", "How large are the packets of its line?", "1500 bytes, 1492 of PPPoE, less in tunnels.",
        answer.packet_size, fixed(str(ETHERNET_BYTES)), lambda answers: answers["behind"] == "router",
        more="Its page calls it MTU. A smaller one is fine where senders are notified (ICMP) or segments are clamped.",
    )  # fmt: skip
    yield Question(
        "outside_port", "By which port from outside?", "The usual one, unless something else has it already.",
        answer.port, lambda answers: answers["control_port"], _has_other_port,
        more="Another port keeps the crowd of scanners away and nobody else: every client then needs the setting, "
        "and a firewall on their side that knows the usual port stops them.",
    )  # fmt: skip
    yield Question(
        "ranges", "Does it take a range of ports in one entry?", "If not, each data port is an entry of its own.",
        yes_no, fixed("yes"), lambda answers: answers["behind"] == "router" and _is_ftp(answers) and is_open(answers),
        more="Look at its form for forwards: one field for the port, or two for the first and the last.",
    )  # fmt: skip
    yield Question(
        "typed", "What do clients type to reach the server?", "A name is better: it can follow the address.",
        answer.dialled, _seen_at, is_open,
        more="Without its port. The certificate is made for what is typed here.",
    )  # fmt: skip
    yield Question(
        "inside", "Do clients on the server's own network use it too?", "They get the server's own address.",
        yes_no, fixed("yes"), lambda answers: has_network(answers) and is_open(answers),
        more="Inside, the outside address often leads nowhere: most routers do not turn connections back.",
    )  # fmt: skip
    yield Question(
        "phones", "Do clients come from mobile networks that have IPv6 alone?", "They reach IPv4 through NAT64.",
        yes_no, fixed("no"), _may_have_phones,
        more="Most phones do. They need a name to type, and a server that knows EPSV; a client of that kind is added.",
    )  # fmt: skip
    yield Question(
        "account", "What is the first account called?", "Not one that rules the system.", answer.name, fixed("station"),
        more="One account for each client or program, so that one can be locked without the others.",
    )  # fmt: skip
    yield Question(
        "folder", "Which folder does it see, and nothing else?", "One made for it.",
        answer.folder, _folder_of,
        more="A whole path on the server. Nothing above it can be seen.",
    )  # fmt: skip
    yield Question(
        "rights", "What may it do there?", f"Some of {', '.join(answer.RIGHTS)}.",
        answer.rights, fixed("list, read, write"),
        more="As few as will do. Who only delivers needs write, and list to see that it arrived.",
    )  # fmt: skip
    yield Question(
        "admin_port", "By which port do you administer the server?", "Kept open for you, shut to others; or none.",
        answer.port_or_none, lambda answers: "none" if answers["control_port"] == "22" else "22",
        lambda answers: PROTOCOLS[answers["clients_can"]][0] != "sftp",
        more="SSH is 22, the remote desktop of Windows 3389. Nobody but you is let in there.",
    )  # fmt: skip
    yield Question(
        "admin_from", "From which network or address?", "Only from there it is let in.",
        answer.one_place, _administers_from,
        is_administered,
        more="The server's own network, or the one address that you come from.",
        unasked="203.0.113.61",
    )  # fmt: skip


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
    outside = Address.parse(outside_address(answers)) if "outside" in answers else own
    if outside.family != own.family:
        pair = f"{outside} outside and {own} inside"
        return f"{pair} are of different families, which no translation joins: enter both as IPv4, or choose firewall"
    if is_administered(answers) and not AddressSet.parse(answers["admin_from"]).of_family(own.family):
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
        return "A placeholder is written in its place: put in what the device shows before anything is tested."
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
