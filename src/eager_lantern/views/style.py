"""The palette and the shapes. A state is always a word and a shape; colour only underlines it."""

from rich.style import Style

INK, AMBER, SLATE, BRICK, SEA = "#1d2b36", "#e0a030", "#5b6b7a", "#a63d2f", "#2f7f86"

PASSES = Style(color=AMBER)
STOPS = Style(color=BRICK, bold=True)
UNTRIED = Style(color=SLATE)
ACCENT = Style(color=SEA)
PLAIN = Style()
STRONG = Style(bold=True)

SHAPES: dict[str, tuple[str, Style]] = {
    "kept": ("●", PASSES),
    "broken": ("◆", STOPS),
    "unknown": ("◌", UNTRIED),
    "bad input": ("✕", STOPS),
    "fault": ("✕", STOPS),
    "ok": ("●", PASSES),
    "good": ("●", PASSES),
    "poor": ("◆", STOPS),
    "refused": ("◆", STOPS),
    "silent": ("◆", STOPS),
    "wrong": ("◆", STOPS),
    "untried": ("·", UNTRIED),
    "breaks": ("◆", STOPS),
    "risks": ("▲", PASSES),
    "note": ("·", UNTRIED),
}
