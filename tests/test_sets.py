"""The sets of ports and addresses, held against plain Python sets."""

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import EVERY_PORT, PortSet
from eager_lantern.core.values.quantities import Duration

ports = st.integers(1, 65535)
spans = st.tuples(ports, st.integers(0, 300)).map(lambda pair: (pair[0], min(65535, sum(pair))))
port_sets = st.lists(spans, max_size=6).map(lambda each: PortSet.of(*each))
near = st.integers(0, 40)
addresses = st.one_of(
    near.map(lambda number: ipaddress.IPv4Address("10.61.4.0") + number),
    near.map(lambda number: ipaddress.IPv6Address("2001:db8::") + number),
    st.sampled_from([ipaddress.ip_address("255.255.255.255"), ipaddress.ip_address("::")]),
)


@given(port_sets, port_sets)
def test_port_algebra_is_that_of_sets(a: PortSet, b: PortSet) -> None:
    assert set(a | b) == set(a) | set(b)
    assert set(a & b) == set(a) & set(b)
    assert set(a - b) == set(a) - set(b)
    assert (a <= b) == (set(a) <= set(b))
    assert len(a) == len(set(a))


@given(port_sets, port_sets)
def test_equal_sets_have_one_form(a: PortSet, b: PortSet) -> None:
    assert (a == b) == (set(a) == set(b))
    assert (str(a) == str(b)) == (a == b)
    assert (a - b) | (a & b) == a


@given(port_sets)
def test_ports_are_read_back_as_written(ports: PortSet) -> None:
    assert PortSet.parse(str(ports)) == ports


@given(port_sets, st.integers(-70000, 70000))
def test_shift_moves_each_port_and_drops_what_is_no_port(ports: PortSet, offset: int) -> None:
    assert set(ports.shift(offset)) == {each + offset for each in ports} & set(EVERY_PORT)


@given(port_sets, ports)
def test_membership_of_ports(some: PortSet, port: int) -> None:
    assert (port in some) == (port in set(some))


@given(st.from_regex(r"0?(2[0-9]{1,2}|[0-9]{1,2})(\.(25[0-6]|0|[1-9])){2,4}(/[0-9]{0,2})?", fullmatch=True))
def test_a_network_is_read_as_the_library_reads_it(text: str) -> None:
    try:
        expected = ipaddress.ip_network(text)
    except ValueError:
        with pytest.raises(ValueError, match="; expected "):
            AddressSet.parse(text)
        return
    assert AddressSet.parse(text).spans == ((int(expected[0]), int(expected[-1])),)


@given(st.lists(addresses, min_size=1), st.lists(addresses, min_size=1))
def test_address_algebra_is_that_of_sets(a: list[object], b: list[object]) -> None:
    first, second = AddressSet.parse(", ".join(map(str, a))), AddressSet.parse(", ".join(map(str, b)))
    assert {str(Address(each)) for each in first | second} == {*map(str, a), *map(str, b)}
    assert {str(Address(each)) for each in first & second} == {*map(str, a)} & {*map(str, b)}
    assert {str(Address(each)) for each in first - second} == {*map(str, a)} - {*map(str, b)}
    assert AddressSet.parse(str(first)) == first


@pytest.mark.parametrize(
    ("slip", "hint"),
    [
        ("61200-6145", "expected 61200 or more: is a digit missing from 6145?"),
        ("61455-61200", "ends before it starts; expected 61200-61455?"),
        ("990000", "no port; expected 1 to 65535"),
        ("0", "no port; expected 1 to 65535"),
        ("-21", "no port; expected 1 to 65535"),
        ("61200:61455", "plain hyphen: 61200-61455"),
        ("61200–61455", "plain hyphen: 61200-61455"),
        ("61200..61455", "plain hyphen: 61200-61455"),
        ("61.200", "61200?"),
        ("612O0", "61200?"),
        ("2l", "21?"),
        ("21,", "nothing before or after a comma"),
        ("20-21-22", "is no port"),
        ("ftp", "is no port"),
        ("9" * 200, "no port; expected 1 to 65535"),
        ("9" * 5000, "found 5000 characters"),
        ("..", "is no port"),
    ],
)
def test_a_slip_in_ports_is_named_with_what_would_be_right(slip: str, hint: str) -> None:
    with pytest.raises(ValueError, match=hint.replace("?", r"\?")):
        PortSet.parse(slip)


@pytest.mark.parametrize(
    ("slip", "hint"),
    [
        ("10.61.4.300", "0 to 255"),
        ("10.61.4", "3 numbers; expected four"),
        ("10.61.04.20", "without a zero in front"),
        ("10.61.4.20/32", "expected one address"),
        ("gauge", "as in 198.51.100.61"),
        ("fe80::1%eth0", "without a zone"),
    ],
)
def test_a_slip_in_an_address_is_named(slip: str, hint: str) -> None:
    with pytest.raises(ValueError, match=hint):
        Address.parse(slip)


@pytest.mark.parametrize(
    ("slip", "hint"),
    [
        ("10.61.4.9/24", "expected 10.61.4.0/24"),
        ("10.61.4.9-10.61.4.2", "ends before"),
        ("::1-10.0.0.1", "family"),
        ("fe80::1%eth0", "zone"),
    ],
)
def test_a_slip_in_a_network_is_named(slip: str, hint: str) -> None:
    with pytest.raises(ValueError, match=hint):
        AddressSet.parse(slip)


@pytest.mark.parametrize(
    ("address", "kind"),
    [
        ("198.51.100.61", "public"),
        ("8.8.4.4", "public"),
        ("2001:db8::61", "public"),
        ("10.1.2.3", "private"),
        ("172.31.255.255", "private"),
        ("172.32.0.0", "public"),
        ("fd00::1", "private"),
        ("100.64.7.12", "carrier"),
        ("100.128.0.0", "public"),
        ("169.254.1.1", "link-local"),
        ("127.0.0.1", "loopback"),
        ("224.0.0.1", "multicast"),
        ("0.0.0.0", "unspecified"),
        ("240.0.0.1", "reserved"),
    ],
)
def test_addresses_are_of_the_kind_that_the_registries_say(address: str, kind: str) -> None:
    assert Address.parse(address).kind == kind


@pytest.mark.parametrize(
    ("seconds", "text"), [(320, "320 s"), (480, "8 min"), (5400, "1.5 h"), (0.25, "0.25 s"), (86400, "1 d"), (0, "0 s")]
)
def test_a_time_is_written_in_the_largest_unit_in_which_it_is_short(seconds: float, text: str) -> None:
    assert str(Duration(seconds)) == text
    assert Duration.parse(text).amount == seconds
