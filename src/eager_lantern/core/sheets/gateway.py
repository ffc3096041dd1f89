"""The page of a gateway: forwards in the form that it takes, its switches, its filter."""

from collections.abc import Iterator, Sequence

from ..model.site import ETHERNET_BYTES, FTP_PORT, OPEN, Attachment, Forward, Gateway, Site
from ..network.flow import segment_bytes
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .sheet import Grid, Sheet, SheetPart, filter_part, loading_commands, loading_steps, untold_parts

_TRANSLATES = {
    "none": "does not translate",
    "outward": "shares its outside address among the hosts inside",
    "one-to-one": "joins outside addresses to inside ones, port by port the same",
}
_LEASES = {
    "static": "static",
    "reserved": "reserved",
    "dynamic": "dynamic: when it changes, what is announced and published is wrong",
}
_WINS = {"first": "first", "last": "last", "narrowest": "one with fewer ports"}
_TURNED = {
    "inside": "as from the device itself",
    "outside": "as from its outside address",
    "kept": "with their own address",
    "unknown": "in a way that is not known",
}
_NOTHING = "It has no forward and no filter that the site needs; it only has to let pass what clients begin."


def gateway_sheet(
    site: Site, gateway: Gateway, files: Sequence[str], users: tuple[str, ...], used: frozenset[SitePath]
) -> Sheet:
    """The page; ``files`` are the names of those by which its rules are entered: of a Linux gateway the one to load,
    of a cloud a script for each provider. ``users`` are the clients on whose side it stands; none for a device of the
    server's side. ``used`` are the places of forwards that promised sessions pass, or would."""
    is_cloud = gateway.system == "cloud"
    rule_file = None if is_cloud else next(iter(files), None)
    index = site.gateways.index(gateway)
    others = [i for i in range(len(gateway.forwards)) if ("gateways", index, "forwards", i) not in used]
    entered = [*_forwards(gateway, others), *_pairs(gateway), *_filters(site, gateway)]
    work = [
        *entered,
        *([_by_command(files)] if is_cloud and files else []),
        _switches(gateway),
        _keep_part(gateway, others),
        *([] if is_cloud else [_restart(gateway, rule_file)]),
        _proof_part(gateway, rule_file),
    ]
    parts = [_address_part(gateway), *(work if entered or rule_file else [SheetPart("Nothing to enter", (_NOTHING,))])]
    about = f"Between {gateway.outside.network} and {gateway.inside.network}; {_TRANSLATES[gateway.translate]}."
    if gateway.translate_ipv6 not in (None, gateway.translate):
        about += f" For IPv6 it {_TRANSLATES[gateway.translate_ipv6 or 'none']}."
    if rule_file:
        about += f" Load {rule_file}, or enter the tables by hand."
    if users:
        about += f" On the side of {', '.join(users)}: for whoever runs it."
    kind = "cloud filter" if is_cloud else "clients' device" if users else "gateway"
    return Sheet(gateway.name, kind, about, tuple(parts))


def _address_part(gateway: Gateway) -> SheetPart:
    rows = [
        (
            "outside",
            gateway.outside.network,
            _shared(gateway.outside),
            _lease_text(gateway.outside),
        ),
        (
            "inside",
            gateway.inside.network,
            str(gateway.inside.address) or "none of its own",
            _lease_text(gateway.inside),
        ),
    ]
    lines: tuple[str, ...] = ()
    special = [each for each in gateway.outside.address.each if each.kind != "public"]
    if gateway.outside.network == "internet" and special:
        lines = (f"{special[0]} is not a public address: nobody on the internet reaches it, whatever is entered here.",)
    return SheetPart("Its addresses", lines, Grid(("side", "network", "address", "lease"), tuple(rows), "read"))


def _shared(attachment: Attachment) -> str:
    if attachment.ports is None:
        return str(attachment.address) or "none of its own"
    return f"{attachment.address}, ports {attachment.ports} alone: others belong to other customers"


def _lease_text(attachment: Attachment) -> str:
    return _LEASES[attachment.lease] if attachment.address else ""


def _forwards(gateway: Gateway, others: Sequence[int]) -> Iterator[SheetPart]:
    """All forwards as its page lists them; those of ``others`` are no part of the work, and stay."""
    if not gateway.forwards:
        return
    single = not gateway.forward_ranges
    made = [
        (i, row) for i, each in enumerate(gateway.forwards) for row in (_singles(each) if single else _ranges(each))
    ]
    rows = tuple(row for _, row in made)
    stay = tuple(at for at, (i, _) in enumerate(made) if i in others)
    heads = ("name", "protocol", "outside port" if single else "outside ports", "inside address",
             "inside port" if single else "inside ports", "only from", "state")  # fmt: skip
    yield SheetPart("Forwards", tuple(_form(gateway, len(rows))), Grid(heads, rows, stay=stay))


def _form(gateway: Gateway, entries: int) -> Iterator[str]:
    """What the device's own form asks for."""
    if not gateway.forward_ranges:
        yield f"This device takes one port an entry: {entries} entries."
        if any(len(each.ports) > 1 for each in gateway.forwards):
            yield "The site file has a range in one entry: enter single ports there too, or check counts none of it."
    if gateway.forward_limit is not None:
        room = f"It holds {gateway.forward_limit} entries."
        yield room if entries <= gateway.forward_limit else f"{room} These are {entries}: make the data range smaller."
    for each in gateway.forwards:
        if each.lifetime is not None:
            yield f"Forward {each.name or each.ports} ends by itself after {each.lifetime}: enter it to stay."
    if gateway.forward_ranges:
        yield "Where the page asks for first and last port, they are the two numbers of the range."


def _ranges(forward: Forward) -> Iterator[tuple[str, ...]]:
    for low, high in forward.ports.spans:
        yield _entry(forward, PortSet.of((low, high)))


def _singles(forward: Forward) -> Iterator[tuple[str, ...]]:
    for port in forward.ports:
        yield _entry(forward, PortSet.single(port))


def _entry(forward: Forward, ports: PortSet) -> tuple[str, ...]:
    return (
        forward.name or "-",
        forward.protocol.upper(),
        str(ports) if forward.outside is None else f"{ports} at {forward.outside}",
        str(forward.to),
        str(ports.shift(forward.offset)),
        str(forward.from_ or "anywhere"),
        "on" if forward.enabled else "off",
    )


def _pairs(gateway: Gateway) -> Iterator[SheetPart]:
    if gateway.pairs:
        rows = tuple((str(each.outside), str(each.inside)) for each in gateway.pairs)
        yield SheetPart("Address pairs", grid=Grid(("outside address", "inside address"), rows))


def _switches(gateway: Gateway) -> SheetPart:
    return SheetPart("Switches", grid=Grid(("setting", "value"), tuple(_gateway_settings(gateway))))


def _gateway_settings(gateway: Gateway) -> Iterator[tuple[str, str]]:
    if gateway.forwards:
        yield "forwarding, the master switch", "on" if gateway.forwarding else "off"
        yield (
            "a forward opens the filter too",
            "yes" if gateway.forwards_pass_filter else "no: the filter needs rules as well",
        )
        if gateway.forward_order != "first":
            yield "where two forwards are about one port", f"the {_WINS[gateway.forward_order]} wins"
        if gateway.forwards_hide_source:
            yield "forwarded connections come", "as from the device itself: the server sees no client's address"
    if gateway.exposed_host:
        yield "everything that no forward takes", f"goes to {gateway.exposed_host}"
    if gateway.filter_sees == "outside":
        yield "the filter asks for the destination", "as it was outside, before a forward changes it"
    if gateway.translate_ipv6 == "none" != gateway.translate:
        yield "IPv6", "is routed: clients go to a host's own address, and the filter alone decides"
    if gateway.translate != "none":
        yield (
            "inside clients that use the outside address",
            f"are turned back, {_TURNED[gateway.hairpin_source]}" if gateway.hairpin else "are not turned back",
        )
        yield "FTP helper", _helper_setting(gateway) if gateway.ftp_helper else "off"
    yield "connections to the device itself from outside", "no answer" if gateway.unmatched == "silent" else "refused"
    for each in gateway.routes:
        yield f"route to {each.to}", f"through {each.via}"
    if gateway.nat64 is not None:
        yield "reaches IPv4 for hosts of IPv6 alone (NAT64)", f"{gateway.nat64}, as a program or device of its own does"
    if gateway.mtu < ETHERNET_BYTES:
        yield "largest packet of its line (MTU)", f"{gateway.mtu} bytes"
        yield "senders of larger ones", "are notified by ICMP" if gateway.too_big == "told" else "are not notified"
    if gateway.clamps_mss:
        sizes = f"{segment_bytes(gateway, 4)} bytes, of IPv6 {segment_bytes(gateway, 6)}"
        yield "segment size of TCP (MSS) is clamped to", sizes
    if gateway.idle_timeout is not None:
        yield "quiet connections are kept for", str(gateway.idle_timeout)
    if len(gateway.outside.address.each) > 1:
        yield "a host keeps its outside address", "yes" if gateway.pooling == "paired" else "no"


def _helper_setting(gateway: Gateway) -> str:
    seen = "" if gateway.helper_sees == "outside" else ", as it is inside"
    return "on" if gateway.helper_ports == FTP_PORT and not seen else f"on, reads port {gateway.helper_ports}{seen}"


def _filters(site: Site, gateway: Gateway) -> Iterator[SheetPart]:
    for title, table in (("in from outside", gateway.filter.inward), ("out from inside", gateway.filter.outward)):
        if table != OPEN:
            yield filter_part(f"Filter: what it lets {title}", table, None, site.services)


def _keep_part(gateway: Gateway, others: Sequence[int]) -> SheetPart:
    lines = ["Its own administration page stays shut on the outside, and as it is on the inside."]
    for each in (gateway.forwards[i] for i in others):
        lines.append(f"Forward {each.name or each.ports} leads to {each.to}: not part of this work, leave it.")
    if blocked := gateway.provider_blocks.ports:
        lines.append(f"Its provider blocks {blocked}: no entry here changes that.")
    for part in untold_parts(gateway):
        lines.append(f"Not known: {part}. Look at it before you enter anything here.")
    return SheetPart("Leave alone", tuple(lines))


def _by_command(scripts: Sequence[str]) -> SheetPart:
    """The same rules by the command line of whichever provider it is."""
    *others, last = sorted(scripts)
    steps = (
        f"Instead of the console: {', '.join(others)} or {last}, whichever is for your provider. Its first lines state "
        "how to run it.",
        "It enters these rules, with “list” it shows them, and with “take-back” it removes them again. It changes no "
        "other rule: what other rules let in stays let in, so look through them as well.",
    )
    return SheetPart("Or by command", steps=steps)


def _restart(gateway: Gateway, rule_file: str | None) -> SheetPart:
    steps = ["Save, and restart the device where its page asks for it."]
    if gateway.outside.lease == "dynamic":
        steps.append("A restart may bring another outside address: compare it afterwards with the one above.")
    if rule_file is None:
        return SheetPart("Restart", steps=tuple(steps))
    steps = [
        f"Put the names of the two interfaces into the first lines of {rule_file}.",
        *loading_steps(rule_file, gateway.name),
    ]
    commands = ["sysctl -w net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1"]
    if gateway.ftp_helper:
        commands.append("modprobe -a nf_conntrack_ftp nf_nat_ftp")
    if gateway.idle_timeout is not None:
        seconds = f"{gateway.idle_timeout.amount:.0f}"
        commands.append(f"sysctl -w net.netfilter.nf_conntrack_tcp_timeout_established={seconds}")
        commands.append("sysctl -w net.netfilter.nf_conntrack_tcp_loose=0")
    commands += loading_commands(rule_file)
    return SheetPart("Restart", steps=tuple(steps), commands=tuple(commands))


def _proof_part(gateway: Gateway, rule_file: str | None) -> SheetPart:
    listed = "The list of its table shows each forward and rule of this page."
    steps = [listed if rule_file else "Close its page, open it again, and compare it with this one, digit by digit."]
    if gateway.outside.address:
        steps.append(f"Its status shows {gateway.outside.address} as its outside address.")
    steps.append("The tests from outside, on the page “Tests”, are the proof.")
    commands = ("nft list table inet eager_lantern",) if rule_file else ()
    return SheetPart("See that it took", steps=tuple(steps), commands=commands)
