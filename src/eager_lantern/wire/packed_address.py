"""Addresses as protocols carry them: 4 or 16 bytes, or 16 in which an IPv4 address is mapped (RFC 4291, 2.5.5.2)."""

from ipaddress import IPv6Address, ip_address

from ..core.values.addresses import Address


def of_bytes(packed: bytes) -> Address:
    """The address of 4 or 16 bytes. Raises ValueError for another length."""
    found = ip_address(packed)
    mapped = found.ipv4_mapped if isinstance(found, IPv6Address) else None
    return Address.parse(str(mapped or found))


def as_16_bytes(address: Address) -> bytes:
    """The address in 16 bytes."""
    packed = ip_address(str(address)).packed
    return packed if len(packed) == 16 else b"\0" * 10 + b"\xff\xff" + packed
