"""The page that a phone gets, the code that leads to it, and what the terminal beside it shows."""

from base64 import b64encode
from collections.abc import Iterator, Sequence
from hashlib import sha256
from itertools import groupby

from jinja2 import Environment, StrictUndefined
from msgspec import Struct
from rich.console import Console, ConsoleOptions, RenderableType
from rich.style import Style
from rich.text import Text

from ..core.observed.compared import LitFrom, Sweep, with_outcome
from ..core.observed.phone import PhonePlan, Standing
from ..core.values.phrases import ports_named
from ..core.values.ports import PortSet
from .lamp import BAR_COLUMNS
from .ledger import axis, bar
from .screen import ACCENT, PASSES, RISKS, STOPS, STRONG, UNTRIED, columns, command, command_line, indented

QUIET_MODULES = 2
"""The light border of a code; four are the standard's, and readers need one."""


class PhonePage(Struct, frozen=True):
    """A page and the rules that a browser is to hold it to (Content Security Policy, level 3)."""

    html: str
    policy: str


def phone_page(template: str, style: str, script: str, plan: PhonePlan) -> PhonePage:
    """The page of a plan: one file, whose style and script alone count, each by its digest."""
    address = str(plan.target)
    environment = Environment(autoescape=True, undefined=StrictUndefined)
    html = environment.from_string(template).render(
        style=style,
        script=script,
        count=len(plan.ports),
        target=address,
        host=address,
        control=plan.control,
        knock=plan.control in plan.barred,
        plan={"control": plan.control},
    )
    # an address of IPv6 is no source that a policy can name (CSP 3, section 2.3.1)
    asked = f"http://{address}:*" if ":" not in address else "http:"
    rules = {
        "default-src": "'none'", "script-src": _digest(script), "style-src": _digest(style), "img-src": "data:",
        "connect-src": f"'self' {asked}", "base-uri": "'none'", "form-action": "'none'", "frame-ancestors": "'none'",
    }  # fmt: skip
    return PhonePage(html, "; ".join(f"{name} {value}" for name, value in rules.items()))


def _digest(text: str) -> str:
    return f"'sha256-{b64encode(sha256(text.encode()).digest()).decode()}'"


class Code:
    """A QR code (ISO/IEC 18004), two modules a character: dark on white where there is colour, else in the light of the
    terminal, for one that is dark. Of a character the upper half is its background and only the lower one is drawn:
    glyphs of many fonts do not reach the top of their line, and a reader takes the seams for modules."""

    def __init__(self, text: str) -> None:
        import segno  # only for who shows a code

        made = segno.make(text, error="l", micro=False, boost_error=False)
        rows = [[bool(each) for each in row] for row in made.matrix_iter(border=QUIET_MODULES)]
        below = [*rows[1::2], [False] * len(rows[0])]
        self._pairs = [list(zip(*each, strict=True)) for each in zip(rows[::2], below, strict=False)]

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[Text]:
        for row in self._pairs:
            line = Text("  ", no_wrap=True)
            for (upper, lower), run in groupby(row):
                count = len(list(run))
                if console.color_system is None:
                    line.append(_LIGHT_HALVES[upper, lower] * count)
                else:
                    style = Style(color=_PAPER[lower], bgcolor=_PAPER[upper])
                    line.append((" " if upper == lower else "▄") * count, style)
            yield line


_PAPER = {True: "#000000", False: "#ffffff"}
_LIGHT_HALVES = {(True, True): " ", (True, False): "▄", (False, True): "▀", (False, False): "█"}


def invitation_view(plan: PhonePlan, address: str, turn: int, further: bool) -> Iterator[RenderableType]:
    """What to do on the phone: the code, and the address to type; at the first page port, or at another one, for the
    first phone or a ``further`` one."""
    if turn == 0 and further:  # without a code: what was seen stays on the screen
        yield Text("The page can test again. Another phone opens", style=STRONG)
        yield Text(f"  {address}", style=ACCENT, no_wrap=True)
        return
    if turn == 0:
        yield Text("On a phone with Wi-Fi off, scan this, or type the address:", style=STRONG)
    else:
        before = ports_named(PortSet.single(plan.pages[turn - 1]))
        yield Text(f"Does the page not open? Then {before} does not arrive there: that is a first result.", style=RISKS)
        yield Text("Try the page at another port:", style=STRONG)
    yield Code(address)
    yield Text(f"  {address}", style=ACCENT, no_wrap=True)
    if turn == 0:
        yield Text("A browser may warn that http is not secure: go on. Nothing secret is asked for.", style=UNTRIED)
    if turn == 0 and not plan.arrive:
        yield indented(
            Text("▲ By the site file no port arrives from there: the page is not expected to open.", style=RISKS), 0
        )
    if plan.barred:
        yield Text(f"No browser goes to {ports_named(plan.barred)}: the page tells how to try it with an app.",
                   style=UNTRIED)  # fmt: skip


def tls_view(address: str, shown: str) -> Iterator[RenderableType]:
    """Something asked for TLS instead of the page."""
    yield Text(
        f"▲ {address} asked for https at the port of the page. If that is the phone, the port arrives, and its browser "
        "insists on https: let it go on without, or take another browser.",
        style=RISKS,
    )
    yield Text(f"  {shown}", style=ACCENT, no_wrap=True)


def nowhere_view(plan: PhonePlan) -> Iterator[RenderableType]:
    """What remains where the page opened at no port."""
    tried = ports_named(PortSet.of(*((each, each) for each in plan.pages)))
    yield Text(f"◆ Nothing has asked for the page at {tried}.", style=STOPS)
    yield Text(
        "If the phone's browser found none of them: the way is shut from there, or the phone is on this network "
        "and the router does not turn it back. Try from another place: another carrier, or visit --lamp from a "
        "host outside. eager-lantern check names what the site file blocks."
    )


def sweeping_view(plan: PhonePlan, sweep: Sweep, arrives: PortSet, come_from: Sequence[str]) -> list[RenderableType]:
    """The ledger while the phone is at it: predicted and measured, on one axis."""
    tried = PortSet.of(*((each.port, each.port) for each in sweep.ports))
    rows: dict[str, tuple[PortSet, Style]] = {
        "predicted to arrive": (arrives, PASSES),
        "arrive at the lamp": (with_outcome([sweep], "ok"), PASSES),
        "refused": (with_outcome([sweep], "refused"), STOPS),
        "silent": (with_outcome([sweep], "silent"), STOPS),
        "another answers": (with_outcome([sweep], "wrong"), STOPS),
        "not tried yet": (plan.ports - tried, UNTRIED),
    }
    kept = {
        name: each for name, each in rows.items() if each[0] or name in ("predicted to arrive", "arrive at the lamp")
    }
    pieces = axis([ports for ports, _ in kept.values()], plan.ports, BAR_COLUMNS)
    table = columns(widths=(22, BAR_COLUMNS + 2, None, 7))
    for name, (ports, style) in kept.items():
        named = str(ports) if len(ports.spans) < 4 else ports_named(ports)
        table.add_row(
            f"  {name}", Text(bar(pieces, ports, plan.ports), style=style), named or "none", f"{len(ports):7}"
        )
    places = ", ".join(come_from)
    head = Text(f"A phone at {places} tries the ports: {len(tried)} of {len(plan.ports)}", style=STRONG)
    return [Text(), head, table]


_STANDS: dict[Standing, str] = {
    "outside": "● The phone came from outside: {address}.",
    "inside": "▲ The phone came from inside ({address}): this was no test from outside. Switch its Wi-Fi off.",
    "hairpin": "▲ The router turned the phone back ({address}): it is on this network; no test from outside.",
    "unknown": "◌ The phone came as {address}; whether that is outside is unknown.",
}


def visit_notes(
    plan: PhonePlan, standing: Standing, address: str, seen: LitFrom, through: bool, elsewhere: str
) -> Iterator[RenderableType]:
    """What stands beside the ledger of a phone's sweep."""
    style = {"outside": STRONG, "unknown": UNTRIED}.get(standing, RISKS)
    yield Text(_STANDS[standing].format(address=address), style=style)
    if not through:
        left = len(plan.ports) - len(seen.outcomes)
        yield Text(f"◌ It ended early: {left} of {len(plan.ports)} ports were not tried.", style=UNTRIED)
    if seen.knocks is not None:
        yield from knocks_view(plan, seen.knocks)
    if elsewhere:
        yield Text(
            f"◆ The page tried {plan.target}, but the server announces {elsewhere} there: data connections of real "
            "clients go to that address. eager-lantern check states what follows.",
            style=STOPS,
        )


def why_command(file: str, save: str) -> Iterator[RenderableType]:
    """What to type to learn why some ports do not arrive."""
    how = "" if save else "keep this with --save FILE, then "
    yield command(f"Next: {how}{command_line('diagnose', file, '--seen', save or 'FILE')}", ACCENT)


def knocks_view(plan: PhonePlan, knocks: int) -> Iterator[RenderableType]:
    """Whether anything came to the control port, where no browser goes, from where the phone is."""
    if knocks:
        yield Text(
            f"● Port {plan.control}: {knocks} connection{'s' if knocks > 1 else ''} from the phone's address. Any "
            "program there could have made it.",
            style=STRONG,
        )
    else:
        yield Text(
            f"◌ Port {plan.control}: no connection from the phone's address yet; an app for file transfer makes one.",
            style=UNTRIED,
        )


def nobody_view(plan: PhonePlan) -> Iterator[RenderableType]:
    """The lamp is out, and no phone has swept it."""
    yield Text(f"◌ No phone has tried {ports_named(plan.ports)}: nothing is known.", style=UNTRIED)
