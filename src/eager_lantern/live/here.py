"""Whether an address is one of this machine's own."""

import contextlib
import socket

from ..core.addresses import Address


def is_here(address: Address) -> bool:
    """Whether a socket of this machine may be bound to it; nothing is sent."""
    family = socket.AF_INET if address.family == 4 else socket.AF_INET6
    with contextlib.closing(socket.socket(family, socket.SOCK_DGRAM)) as tried:
        try:
            tried.bind((str(address), 0))
        except OSError:
            return False
    return True
