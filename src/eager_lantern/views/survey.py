"""What `survey` shows: what follows first, then what was seen, each fact with how it was learnt, then what is not
known and what would tell it."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.findings.finding import Finding
from ..core.observed.conclusions import Conclusion, conclusions, forwards_of
from ..core.observed.survey import ListeningSocket, OwnAddress, Survey, SurveyedAccount, Topic
from ..core.values.phrases import listed
from .screen import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED, Share, between, columns, command

MOST_MAPPINGS, MOST_LISTENERS = 20, 14
TRANSFER = ("ftp", "ssh")
CALLED: dict[Topic, str] = {
    "addresses": "its addresses",
    "way-out": "its way out",
    "listeners": "who listens",
    "programs": "programs that listen",
    "local-ports": "its own ports",
    "starts": "what starts by itself",
    "filter": "its filter",
    "helper": "FTP helper",
    "clock": "its clock",
    "accounts": "its accounts",
    "rest": "how long ports rest",
    "outside-address": "outside address",
    "mappings": "the router's forwards",
    "names": "names",
}


def survey_view(found: Survey, parts: Sequence[Finding], file: str, ending: str) -> Iterator[RenderableType]:
    """The whole of a survey; ``parts`` is where it parts from the site file ``file``, empty without one. ``ending`` is
    the next line to type."""
    follows = conclusions(found)
    yield between(f"{found.host.name}  {found.host.system}", _survey_head(follows, parts), STRONG)
    if follows:
        yield ""
        yield from map(_conclusion, follows)
    if file:
        yield ""
        yield from beside_site_view(parts, file)
    for title, rows in (
        ("Outside", list(_outside_rows(found))),
        ("Names", list(_name_rows(found))),
        ("The router forwards", list(_mappings(found))),
        ("This host", list(_host_rows(found))),
    ):
        if rows:
            yield ""
            yield from _fact_table(title, rows)
    if found.unknown:
        yield ""
        yield Text("Unknown, and where to look", style=STRONG)
        yield from _unknown_rows(found)
    yield ""
    yield command(f"Next: {ending}", ACCENT)


def router_view(found: Survey) -> Iterator[RenderableType]:
    """What the router and those outside say alone."""
    yield from map(_conclusion, conclusions(found))
    yield ""
    yield from _fact_table("The router forwards", list(_mappings(found)))


def _survey_head(follows: Sequence[Conclusion], parts: Sequence[Finding]) -> Text:
    count = sum(each.good is False for each in follows) + len(parts)
    if count:
        return Text(f"◆ {count} thing{'s' * (count != 1)} in the way", style=STOPS)
    return Text("● nothing in the way that is known", style=HOLDS)


def _conclusion(each: Conclusion) -> RenderableType:
    marks = {True: Text("●", style=HOLDS), False: Text("◆", style=STOPS), None: Text("▲", style=RISKS)}
    table = columns(widths=(1, None))
    table.add_row(marks[each.good], Text(each.message))
    if each.advice:
        table.add_row("", Text(f"→ {each.advice}", style=ACCENT))
    return table


def beside_site_view(parts: Sequence[Finding], file: str) -> Iterator[RenderableType]:
    """Where a survey parts from the site file."""
    if not parts:
        yield Text(f"● the survey matches {file}", style=HOLDS)
        return
    yield Text(f"The survey differs from {file}", style=STRONG)
    table = columns(widths=(1, None))
    for each in parts:
        mark = Text("◆", style=STOPS) if each.severity == "breaks" else Text("▲", style=RISKS)
        table.add_row(mark, Text.assemble(each.message, (f"  {each.kind}", UNTRIED)))
        table.add_row("", Text(f"→ {each.advice}", style=ACCENT))
    yield table


Row = tuple[str, str, str]


def _fact_table(title: str, rows: Sequence[Row]) -> Iterator[RenderableType]:
    """What, how it is, and how that was learnt."""
    yield Text(title, style=STRONG)
    table = columns(widths=(1, Share(5), Share(8), Share(6)))
    for what, how, by in rows:
        table.add_row("", Text(what), Text(how), Text(by, style=UNTRIED))
    yield table


def _outside_rows(found: Survey) -> Iterator[Row]:
    for each in found.outside:
        yield "seen as", f"{each.address} ({each.address.kind})", each.by


def _name_rows(found: Survey) -> Iterator[Row]:
    for each in found.names:
        kept = f", for {each.seconds} s" if each.seconds is not None else ""
        yield each.name, f"{listed(map(str, each.addresses)) or 'no address'}{kept}", each.by


def _mappings(found: Survey) -> Iterator[Row]:
    """Neighbouring ports to one host in one row."""
    by = found.mappings[0].by if found.mappings else ""
    forwards = forwards_of(found.mappings)
    for each in forwards[:MOST_MAPPINGS]:
        off = "" if each.enabled else ", switched off"
        ends = f", ends within {each.lifetime}" if each.lifetime is not None else ""
        port = f" from port {each.to_port}" if each.to_port is not None else ""
        name = f" “{each.name}”" if each.name else ""
        yield f"{each.protocol} {each.ports}", f"to {each.to}{port}{name}{off}{ends}", by
    if len(forwards) > MOST_MAPPINGS:
        yield "", f"and {len(forwards) - MOST_MAPPINGS} more", "--format json has all"


def _host_rows(found: Survey) -> Iterator[Row]:
    host = found.host
    for own in host.addresses:
        yield "has", f"{own.address} on {own.interface}{_lasting(own)}", own.by
    for way in host.ways_out:
        through = f"{way.gateway} on {way.interface}" if way.gateway is not None else way.interface
        yield f"way out, IPv{way.family}", f"{through}{', a tunnel' if way.tunnel else ''}", way.by
    yield from _listeners(host.listeners)
    if (ports := host.local_ports) is not None:
        kept = f" but {ports.reserved}" if ports.reserved else ""
        rests = f"; each rests {ports.rests_seconds:g} s" if ports.rests_seconds is not None else ""
        yield "its own ports", f"{ports.ports}{kept}{rests}", ports.by
    if host.filter is not None:
        yield "filter", f"{'active' if host.filter.active else 'inactive'}: {host.filter.detail}", host.filter.by
    if host.helper is not None:
        uses = {True: ", in use", False: ", not in use", None: ""}[host.helper.in_use]
        yield "FTP helper", (listed(host.helper.modules) or "none") + uses * bool(host.helper.modules), host.helper.by
    if host.clock is not None:
        kept = {True: "kept by a time server", False: "kept by no time server", None: ""}[host.clock.kept]
        off = f"{host.clock.offset_seconds:+.1f} s" if host.clock.offset_seconds is not None else ""
        yield "clock", ", ".join(filter(None, (off, kept))), host.clock.by
    for account in host.accounts:
        yield f"account {account.name}", _of_account(account), account.by


def _of_account(account: SurveyedAccount) -> str:
    if not account.known:
        return "not known to this host"
    if not account.home:
        return "known to this host; its folder and rights were not looked at"
    folder = f", {account.owner}'s, mode {account.mode}" if account.mode else ""
    return f"{f'shell {account.shell}' if account.has_shell else 'no shell'}; home {account.home}{folder}"


def _lasting(own: OwnAddress) -> str:
    if own.temporary:
        return ", changes by itself"
    return {True: ", by lease", False: ", fixed", None: ""}[own.lease]


def _listeners(listeners: Sequence[ListeningSocket]) -> Iterator[Row]:
    """File transfer first, then the others by port; the same port at two addresses once."""
    rows: dict[tuple[str, int, str], list[ListeningSocket]] = {}
    for each in sorted(listeners, key=lambda each: (not _transfers(each), each.protocol, each.port)):
        rows.setdefault((each.protocol, each.port, each.program), []).append(each)
    for (protocol, port, program), same in list(rows.items())[:MOST_LISTENERS]:
        everywhere = any(each.address is None for each in same)
        at = "" if everywhere else f" at {listed(sorted({str(each.address) for each in same}))}"
        starts = {True: ", starts by itself", False: ", does not start by itself", None: ""}[same[0].starts]
        yield f"listens, {protocol} {port}", f"{program or 'a program'}{at}{starts}", same[0].by
    if len(rows) > MOST_LISTENERS:
        yield "", f"and {len(rows) - MOST_LISTENERS} more", "--format json has all"


def _transfers(each: ListeningSocket) -> bool:
    return each.port in (21, 22, 990) or any(word in each.program for word in TRANSFER)


def _unknown_rows(found: Survey) -> Iterator[RenderableType]:
    table = columns(widths=(1, Share(4), Share(8), Share(7)))
    for each in dict.fromkeys(found.unknown):
        table.add_row("", Text(CALLED[each.topic]), Text(each.why), Text(f"→ {each.ask}", style=ACCENT))
    yield table
