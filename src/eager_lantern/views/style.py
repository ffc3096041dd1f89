"""The palette and the shapes. A state is always a word and a shape; colour only underlines it: sea what holds,
amber the ports that light gets through and what is risky, brick what stops, slate what is untried."""

from rich.style import Style

INK, AMBER, SLATE, BRICK, SEA = "#1d2b36", "#e0a030", "#5b6b7a", "#a63d2f", "#2f7f86"

PASSES = Style(color=AMBER)
HOLDS = Style(color=SEA)
RISKS = Style(color=AMBER)
STOPS = Style(color=BRICK, bold=True)
UNTRIED = Style(color=SLATE)
ACCENT = Style(color=SEA)
PLAIN = Style()
STRONG = Style(bold=True)

SHAPES: dict[str, tuple[str, Style]] = {
    "kept": ("●", HOLDS),
    "works": ("●", HOLDS),
    "wanted": ("●", HOLDS),
    "unasked": ("▲", RISKS),
    "fails": ("◆", STOPS),
    "broken": ("◆", STOPS),
    "unknown": ("◌", UNTRIED),
    "bad input": ("✕", STOPS),
    "fault": ("✕", STOPS),
    "ok": ("●", HOLDS),
    "good": ("●", HOLDS),
    "poor": ("◆", STOPS),
    "refused": ("◆", STOPS),
    "silent": ("◆", STOPS),
    "wrong": ("◆", STOPS),
    "untried": ("·", UNTRIED),
    "breaks": ("◆", STOPS),
    "risks": ("▲", RISKS),
    "note": ("·", UNTRIED),
}
