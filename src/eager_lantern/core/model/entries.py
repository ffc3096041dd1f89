"""What one key of the site file holds, where it is more than a set or an address: a port, blocked ports, a target."""

import re
from typing import Self

from msgspec import Struct

from ..values.addresses import Addresses
from ..values.ports import PortSet, port_number
from ..values.text_value import LONGEST_MANY, Value, bounded


class Port(Value):
    """One port, where a range would make no sense."""

    __slots__ = ("number",)

    def __init__(self, number: int) -> None:
        self.number = number

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``21``. Raises ValueError with the likely slip named."""
        if pair := re.fullmatch(r"\s*([1-9][0-9]{0,4})\s*:\s*([1-9][0-9]{0,4})\s*", bounded(text)):
            outside, own = pair[1], pair[2]
            raise ValueError(
                f"found “{text.strip()}”, two ports; expected {own}, the server's own: outside it is {outside} "
                f"by a forward ({{ports: {outside}, to: …, to_port: {own}}}) and what clients type (HOST:{outside})"
            )
        return cls(port_number(text, "one port, such as 21"))

    def __str__(self) -> str:
        return str(self.number)


class FolderMode(Value):
    """Who may do what in a folder, in the octal digits of chmod (POSIX.1-2017, section 4.5)."""

    __slots__ = ("bits",)

    def __init__(self, bits: int) -> None:
        self.bits = bits

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``750`` or ``0750``. Raises ValueError for anything but three or four octal digits."""
        if not re.fullmatch("[0-7]{3,4}", bounded(text).strip()):
            raise ValueError(f"found “{text.strip()[:40]}”; expected the mode in the digits of chmod, as in 750")
        return cls(int(text, 8))

    @property
    def lets_others_write(self) -> bool:
        """Whether its group or anybody else may write, which an SSH server accepts of no root (``sshd_config``,
        ``ChrootDirectory``)."""
        return bool(self.bits & 0o022)

    @property
    def lets_others_in(self) -> bool:
        """Whether somebody outside of its group may enter it and see what is there."""
        return self.bits & 0o005 == 0o005

    def lets_write(self, is_owner: bool) -> bool:
        """Whether an account may write, which is the owner or somebody outside of its group."""
        return bool(self.bits & 0o002 or (is_owner and self.bits & 0o200))

    def __str__(self) -> str:
        return f"{self.bits:03o}"


class BlockedPorts(Value):
    """The ports that a provider never lets in: a set, or the word ``none``."""

    __slots__ = ("ports",)

    def __init__(self, ports: PortSet = PortSet()) -> None:
        self.ports = ports

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``none`` or a port set. Raises ValueError as :meth:`PortSet.parse`."""
        return cls(PortSet.parse("" if text.strip() == "none" else text))

    def __str__(self) -> str:
        return str(self.ports) or "none"


class Destination(Value):
    """Where to go: addresses, or a name that ``names`` lists, or ``own``."""

    __slots__ = ("addresses", "name")

    def __init__(self, addresses: Addresses = Addresses(), name: str = "") -> None:
        self.addresses = addresses
        self.name = name

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``own``, a host name, or addresses. Raises ValueError for a damaged address."""
        written = bounded(text, LONGEST_MANY).strip()
        if not written:
            raise ValueError("found nothing; expected an address or a name")
        looks_like_address = ":" in written or "," in written or written.replace(".", "").isdigit()
        if looks_like_address:
            return cls(addresses=Addresses.parse(written))
        return cls(name=bounded(written))

    @property
    def own(self) -> bool:
        """Whether it means the device's own address."""
        return self.name == "own"

    def __str__(self) -> str:
        return self.name or str(self.addresses)


OWN = Destination(name="own")


class Typed(Destination):
    """What clients type: where to go, and the port where it is another than the service's own."""

    __slots__ = ("port",)

    def __init__(self, addresses: Addresses = Addresses(), name: str = "", port: Port | None = None) -> None:
        super().__init__(addresses, name)
        self.port = port

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``tides.saltmarsh.example:2121``, ``198.51.100.61``, ``[2001:db8::5]:2121`` or several of one
        port. Raises ValueError for a damaged address or port."""
        pieces = [_host_and_port(each.strip()) for each in bounded(text, LONGEST_MANY).split(",")]
        ports = {port for _, port in pieces}
        if len(ports) > 1:
            raise ValueError("found several ports; expected the same after each address, or none")
        meant = Destination.parse(", ".join(host for host, _ in pieces))
        port = pieces[0][1]
        return cls(meant.addresses, meant.name, None if port is None else Port.parse(port))

    @property
    def host(self) -> Destination:
        """The same without its port."""
        return Destination(self.addresses, self.name)

    def __str__(self) -> str:
        if self.port is None:
            return str(self.host)
        return ", ".join(f"{each}:{self.port}" for each in self._bracketed())

    def _bracketed(self) -> list[str]:
        texts = [self.name] if self.name else list(map(str, self.addresses.each))
        return [f"[{each}]" if ":" in each else each for each in texts]


def _host_and_port(text: str) -> tuple[str, str | None]:
    """A host, and what stands for a port behind it; an IPv6 address with a port is in brackets."""
    if bracketed := re.fullmatch(r"\[([^\]]*)\](?::(.*))?", text, re.DOTALL):
        return bracketed[1], bracketed[2]
    host, colon, port = text.partition(":")
    return (host, port) if colon and ":" not in port else (text, None)


class Symptom(Struct, frozen=True, forbid_unknown_fields=True):
    """What people see: the phrases that they type for it, what it can and cannot be, where to look first, and the keys
    and kinds of findings that go on from there."""

    title: str
    words: tuple[str, ...]
    can_be: tuple[str, ...]
    cannot_be: str
    look: str
    pages: tuple[str, ...]


class KeyPage(Struct, frozen=True):
    """Its meaning, what may stand there, the default (empty where it has to be written), a line of an example, and
    the keys below it with their meanings."""

    path: str
    means: str
    holds: str
    default: str
    required: bool
    example: str
    below: tuple[tuple[str, str], ...]
