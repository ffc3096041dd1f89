"""What is shown can be read: on narrow screens and wide ones, on black and on white, and copied."""

import json
import re
import shlex

import pytest
from program import AFTER, BEFORE, run
from rich.style import Style

from eager_lantern.api import judge, parse_site
from eager_lantern.formats.shipped import usual_names
from eager_lantern.views import screen
from eager_lantern.views.check import Shown, check_view
from eager_lantern.views.screen import command, rendered

COMMANDS = [
    ["check", BEFORE],
    ["check", BEFORE.parent],
    ["compare", BEFORE, AFTER],
    ["size", AFTER],
    ["explain", "range-mismatch"],
    ["explain"],
    ["walk", BEFORE, "--client", "institute"],
]


@pytest.mark.parametrize("columns", [44, 60, 80, 100])
@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: " ".join(each for each in words if isinstance(each, str)))
def test_no_line_is_wider_than_the_screen_but_for_a_word_that_is(words: list[object], columns: int) -> None:
    shown = run(*words, COLUMNS=str(columns)).stdout
    wide = [line for line in shown.splitlines() if len(line) > columns and max(map(len, line.split())) < columns - 8]
    assert (shown != "", wide) == (True, [])


@pytest.mark.parametrize("columns", [40, 60, 80, 100])
def test_a_set_of_ports_is_shown_whole_however_narrow_the_screen(columns: int) -> None:
    ports = "1024-1030, 2000, 3001-3002, 22000-60999, 61200"
    rules = [{"action": "allow", "protocol": "tcp", "ports": ports}]
    site = {
        "lantern": 1, "site": "Pier", "server": {
            "name": "store", "network": "internet", "address": "198.51.100.20",
            "filter": {"incoming": {"default": "deny", "rules": rules}},
        },
    }  # fmt: skip
    source = parse_site("pier", json.dumps(site))
    view = check_view(judge(source.site), Shown("pier", source.line, usual_names))
    lines = rendered(view, colour=False, width=columns).splitlines()
    start = next(i for i, line in enumerate(lines) if "tcp" in line)
    at = lines[start].index("tcp")
    column = "".join(line[at : at + 17].strip() + " " for line in lines[start : start + 8])
    assert "".join(re.findall(r"[0-9-]+,?", column)).startswith(ports.replace(" ", ""))


@pytest.mark.parametrize("lead", ["Next: ", "  ", ""])
@pytest.mark.parametrize("file", ["a place/saltmarsh-before.site.yaml", "saltmarsh-before.site.yaml", "--.yaml"])
def test_a_command_folds_between_its_words_and_a_shell_reads_it_the_same(lead: str, file: str) -> None:
    words = ["eager-lantern", "diagnose", file, "--seen", "morning.json", "--save", "evening.json", "--format", "json"]
    shown = rendered([command(f"{lead}{shlex.join(words)}   what that does", screen.ACCENT)], colour=False, width=50)
    typed = shown.partition("\nwhat that does")[0].removeprefix(lead)
    assert max(map(len, shown.splitlines())) <= 50
    assert shlex.split(typed.replace("\\\n", "")) == words


def test_of_a_command_with_quotes_in_quotes_nothing_is_lost() -> None:
    typed = shlex.join(["eager-lantern", "check", "the pier's own site file, of which there is one.site.yaml"])
    shown = rendered([command(typed, screen.ACCENT)], colour=False, width=50)
    assert shown.replace("\n", "").replace(" ", "") == typed.replace(" ", "")


def luminance(colour: str) -> float:
    """Relative luminance, 0 to 1 (WCAG 2.2)."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    red, green, blue = (each / 12.92 if each <= 0.04045 else ((each + 0.055) / 1.055) ** 2.4 for each in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


@pytest.mark.parametrize("name", ["HOLDS", "RISKS", "STOPS", "UNTRIED", "ACCENT"])
def test_words_have_a_contrast_of_four_and_a_half_to_one_on_black_and_on_white(name: str) -> None:
    style: Style = getattr(screen, name)
    assert style.color is not None
    seen = luminance(style.color.name)
    assert min((seen + 0.05) / 0.05, 1.05 / (seen + 0.05)) >= 4.5
