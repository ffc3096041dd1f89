"""The questions from which a first site file is written, in the order in which the work is done.

A question knows how to read its answer, what to propose, and whether it has to be asked at all:
what follows from earlier answers is derived. Answers are kept as the text of their option, so that
the same words can be typed at the prompt and in a script.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from ipaddress import ip_network

from msgspec import Struct

from .addresses import Address, AddressSet
from .cause import article
from .clear_range import USER, clear_range
from .ports import PortSet
from .site import Destination, Port, Right
from .sizing import Demand

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
BEHIND = {
    "router": "a router that translates: clients see its outside address",
    "firewall": "a firewall that does not translate: clients see the server's own address",
    "cloud": "a cloud's filter: an outside address stands for the server's, and rules let ports in",
    "nothing": "nothing: the server stands on the internet itself",
}
RIGHTS: tuple[Right, ...] = ("list", "read", "write", "append", "rename", "remove", "make-folders")
LOCAL_PORTS = PortSet.of((32768, 60999))
_VISIT = Demand(1, 1, 1, 1, 1.0, 1.0, 60.0, 1)
"""One client that lists and fetches a file: what a burst has of each while nothing else is known."""


class Question(Struct, frozen=True):
    """One question. ``read`` gives the answer in its usual form, or raises ValueError that says what
    would be right; ``propose`` gives what to take where nothing is said, or nothing."""

    key: str
    text: str
    explains: str
    read: Callable[[str], str]
    propose: Callable[[Answers], str]
    applies: Callable[[Answers], bool] = lambda answers: True


def _choice(options: Sequence[str]) -> Callable[[str], str]:
    def read(text: str) -> str:
        if text not in options:
            raise ValueError(f"found “{text[:40]}”, write {', '.join(options[:-1])} or {options[-1]}")
        return text

    return read


def _name(text: str) -> str:
    if not text.strip() or len(text) > 80 or not text.isprintable():
        raise ValueError("a name has 1 to 80 characters, all of them printable")
    return text.strip()


def _port(text: str) -> str:
    return str(Port.parse(text))


def _port_or_none(text: str) -> str:
    return "none" if text.strip() == "none" else _port(text)


def _ports(text: str) -> str:
    ports = PortSet.parse(text)
    if len(ports.spans) != 1 or ports.lowest < 1024:
        raise ValueError(f"“{text[:40]}” is no one range above 1023: write 61200-61455")
    return str(ports)


def _count(text: str) -> str:
    if not re.fullmatch(r"[1-9][0-9]{0,5}", text.strip()):
        raise ValueError(f"“{text[:40]}” is no number of clients: write 1 or more")
    return text.strip()


def _folder(text: str) -> str:
    if not text.startswith("/") or not text.isprintable() or len(text) > 200:
        raise ValueError(f"“{text[:40]}” is no whole path: write /srv/tides/in")
    return text


def _rights(text: str) -> str:
    found = [each.strip() for each in text.split(",")]
    for each in found:
        if each not in RIGHTS:
            raise ValueError(f"there is no right “{each[:40]}”; write some of {', '.join(RIGHTS)}")
    return ", ".join(dict.fromkeys(found))


def _typed(text: str) -> str:
    destination = Destination.parse(text)
    if destination.own or not re.fullmatch(r"[A-Za-z0-9.:_-]+", str(destination)):
        raise ValueError(f"“{text[:40]}” is no name or address: write tides.saltmarsh.example or 198.51.100.61")
    return str(destination)


def _one_place(text: str) -> str:
    if "," in text:
        raise ValueError("write one network or one address; more can be added to the file")
    return str(AddressSet.parse(text))


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


def _range(answers: Answers) -> str:
    """A clear range for the worst burst: each client may hold a port while another of its own rests."""
    size = int(answers["at_once"]) * _VISIT.most_at_once
    return str(clear_range(size, LOCAL_PORTS, USER).ports)


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


def _seen_at(answers: Answers) -> str:
    return answers["outside"] if is_translated(answers) else answers["address"]


def _administers_from(answers: Answers) -> str:
    return answers["subnet"] if answers["behind"] in ("router", "firewall") else ""


def is_open(answers: Answers) -> bool:
    """Whether clients on the internet are let in: never to a login in clear."""
    return answers["clients_can"] != "plain"


def fixed(text: str) -> Callable[[Answers], str]:
    """The same proposal whatever was answered."""
    return lambda answers: text


def questions() -> Iterator[Question]:
    """All questions in order; each may look at the answers before it."""
    yes_no = _choice(("yes", "no"))
    yield Question("site", "What is the site called?", "It heads every page and table.", _name, fixed(""))
    yield Question(
        "clients_can", "What can all its clients do?", "Protocol and number of open ports follow from it.",
        _choice(tuple(PROTOCOLS)), fixed("tls"),
    )  # fmt: skip
    yield Question(
        "control_port", "Which control port?", "The usual one spares every client a setting.",
        _port, lambda answers: str(PROTOCOLS[answers["clients_can"]][2]),
    )  # fmt: skip
    yield Question(
        "server", "What is the server called?", "The host that the service runs on.", _name, fixed("file-server")
    )
    yield Question(
        "address", "Which address has the server itself?", "On its own network, as its own settings show it.",
        lambda text: str(Address.parse(text)), fixed(""),
    )  # fmt: skip
    yield Question(
        "lease", "Does that address stay?", "static: entered on the host; reserved: the router always gives it.",
        _choice(("static", "reserved", "dynamic")), fixed("reserved"),
    )  # fmt: skip
    yield Question(
        "system", "What does it run?", "For linux, a rule file is written that it can load.",
        _choice(("linux", "other")), fixed("linux"),
    )  # fmt: skip
    yield Question(
        "clients", "How many clients are there?", "The size of the data port range follows from it.",
        _count, fixed("10"), _is_ftp,
    )  # fmt: skip
    yield Question(
        "at_once", "How many of them may start at the same moment?", "On the hour, perhaps all of them.",
        _count, lambda answers: answers["clients"], _is_ftp,
    )  # fmt: skip
    yield Question(
        "ports", "Which data ports?", "Two for each client at once, clear of the system's own ports.",
        _ports, _range, _is_ftp,
    )  # fmt: skip
    yield Question(
        "behind", "What stands between the server and the internet?", "Where ports have to be opened follows from it.",
        _choice(tuple(BEHIND)), _likely_device,
    )  # fmt: skip
    yield Question(
        "subnet", "Which network does the server stand on?", "Administration is let in from there.",
        lambda text: str(AddressSet.parse(text)), lambda answers: subnet_around(answers["address"]), has_network,
    )  # fmt: skip
    yield Question("device", "What is that device called?", "As its page is headed.", _name, _device_name, has_network)
    yield Question(
        "device_inside", "Which address has it inside?", "The server's way out (its default route).",
        lambda text: str(Address.parse(text)), _first_host, has_network,
    )  # fmt: skip
    yield Question(
        "outside", "Which address has it outside?", "As its own page shows it, not what a web page tells you.",
        lambda text: str(Address.parse(text)), fixed(""), is_translated,
    )  # fmt: skip
    yield Question(
        "outside_lease", "Does that address stay?", "dynamic: the provider may give another one tomorrow.",
        _choice(("static", "reserved", "dynamic")), fixed("static"), is_translated,
    )  # fmt: skip
    yield Question(
        "ranges", "Does it take a range of ports in one entry?", "If not, each data port is an entry of its own.",
        yes_no, fixed("yes"), lambda answers: answers["behind"] == "router" and _is_ftp(answers) and is_open(answers),
    )  # fmt: skip
    yield Question(
        "typed", "What do clients type to reach the server?", "A name is better: it can follow the address.",
        _typed, _seen_at, is_open,
    )  # fmt: skip
    yield Question(
        "inside", "Do clients on the server's own network use it too?", "They are told the server's own address.",
        yes_no, fixed("yes"), lambda answers: has_network(answers) and is_open(answers),
    )  # fmt: skip
    yield Question(
        "account", "What is the first account called?", "Not one that rules the system.", _name, fixed("station")
    )
    yield Question(
        "folder", "Which folder does it see, and nothing else?", "One made for it.",
        _folder, _folder_of,
    )  # fmt: skip
    yield Question(
        "rights", "What may it do there?", f"Some of {', '.join(RIGHTS)}.", _rights, fixed("list, read, write")
    )
    yield Question(
        "admin_port", "By which port do you administer the server?", "Kept open for you, shut to others; or none.",
        _port_or_none, lambda answers: "none" if answers["control_port"] == "22" else "22",
        lambda answers: PROTOCOLS[answers["clients_can"]][0] != "sftp",
    )  # fmt: skip
    yield Question(
        "admin_from", "From which network or address?", "Only from there it is let in.",
        _one_place, _administers_from,
        is_administered,
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
    outside = Address.parse(answers["outside"]) if "outside" in answers else own
    if outside.family != own.family:
        pair = f"{outside} outside and {own} inside"
        return f"{pair} are of different families, which no translation joins: enter both as IPv4, or choose firewall"
    if is_administered(answers) and not AddressSet.parse(answers["admin_from"]).of_family(own.family):
        return f"from {answers['admin_from']} nobody administers {own}: they are of different families"
    return ""


def is_administered(answers: Answers) -> bool:
    """Whether the administrator has a way in of their own."""
    return answers.get("admin_port", "none") != "none"


def is_administered_inside(answers: Answers) -> bool:
    """Whether that way starts on the server's own network."""
    return has_network(answers) and answers.get("admin_from") == answers["subnet"]


def remark(key: str, answer: str) -> str:
    """What is worth saying about an answer at once; mostly nothing."""
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
