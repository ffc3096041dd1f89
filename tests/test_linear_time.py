"""What strangers write costs time in proportion to its length: patterns, parsers of values, readers of replies."""

import ast
import importlib
import importlib.util
import pkgutil
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import eager_lantern
from eager_lantern.core.values.text_value import LONGEST_MANY, LONGEST_ONE, Value

HOSTILE = 10_000
ASK = {"compile", "match", "fullmatch", "search", "sub", "split", "findall", "finditer"}
_PARSER: Any = importlib.import_module("re._parser")
_REPEATS = {"MAX_REPEAT", "MIN_REPEAT"}
SOURCE = Path(eager_lantern.__file__).parent


def patterns() -> Iterator[tuple[str, Any, Any]]:
    """Every pattern of the source, with its file, as its own module makes it."""
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(("eager_lantern", *path.relative_to(SOURCE).with_suffix("").parts))
        calls = [each for each in ast.walk(ast.parse(path.read_text())) if isinstance(each, ast.Call)]
        asking = [each for each in calls if isinstance(each.func, ast.Attribute) and each.func.attr in ASK]
        for call in asking:
            of = call.func.value  # type: ignore[attr-defined]
            if isinstance(of, ast.Name) and of.id == "re":
                yield f"{path.relative_to(SOURCE).as_posix()}:{call.lineno}", name, call.args[0]


def nested(parsed: Any, inside: bool = False) -> bool:
    """Whether something repeated without bounds holds something repeated without bounds, which may be tried in
    exponentially many ways; possessive and atomic parts are tried in one."""
    for operation, argument in parsed:
        name = str(operation)
        repeats = name in _REPEATS and argument[1] > 64
        if inside and repeats:
            return True
        parts: list[Any] = []
        if name in _REPEATS:
            parts = [argument[2]]
        elif name == "SUBPATTERN":
            parts = [argument[3]]
        elif name == "BRANCH":
            parts = argument[1]
        elif name in ("ASSERT", "ASSERT_NOT"):
            parts = [argument[1]]
        if any(nested(part, inside or repeats) for part in parts):
            return True
    return False


def test_no_pattern_of_the_source_repeats_inside_of_a_repetition() -> None:
    found, opaque = [], set()
    for place, name, argument in patterns():
        try:
            written = eval(  # the source's own expression, in its own module
                compile(ast.Expression(argument), place, "eval"), vars(importlib.import_module(name)).copy()
            )
            if nested(_PARSER.parse(written)):
                found.append(place)
        except (NameError, ImportError):
            opaque.add(place.partition(":")[0])
    assert found == []
    assert opaque == set()  # a pattern that is made of what is read could not be looked at


def test_the_check_of_patterns_finds_what_it_looks_for() -> None:
    bad = [r"([A-Za-z0-9-]*\.?)+", r"(a|b*)*c", r"(?:(?=x+)y)*", r"(a+){2,}"]
    assert [nested(_PARSER.parse(each)) for each in bad] == [True] * len(bad)
    good = [r"(?:a++b)*", r"(?:(?>a*)b)+", r"(a{1,3})+", r"a*b*"]
    assert [nested(_PARSER.parse(each)) for each in good] == [False] * len(good)


def values() -> list[type[Value]]:
    """Every kind of value that reads itself from text."""
    for each in pkgutil.walk_packages([str(SOURCE / "core")], "eager_lantern.core."):
        importlib.import_module(each.name)
    kinds, waiting = [], [Value]
    while waiting:
        kind = waiting.pop()
        waiting += kind.__subclasses__()
        if hasattr(kind, "parse") and kind.__module__.startswith("eager_lantern."):
            kinds.append(kind)
    return sorted(set(kinds), key=lambda kind: kind.__name__)


def refusal(kind: Any, text: str) -> str:
    """Why a text is not read; empty where it is."""
    try:
        kind.parse(text)
    except ValueError as error:
        return str(error) or "no reason given"
    return ""


PIECES = ("a", "1", ".", "-", ":", ",", " ", "%", "/", "0", "O", "a.", "1,", "1-", "é", "[", "]", "1.1.1.1,", "\t", "٣")


@pytest.mark.sweep
@pytest.mark.timeout(900)  # half a minute on an idle machine; what is not linear takes hours
@pytest.mark.parametrize("kind", values(), ids=lambda kind: kind.__name__)
def test_a_value_is_read_in_linear_time(kind: Any) -> None:
    for piece in PIECES:
        for length in (40, LONGEST_ONE - 2, HOSTILE, LONGEST_MANY - 2):
            for text in ((piece * length)[:length] + end for end in ("", "!", "1", " x")):
                assert "unpack" not in refusal(kind, text)


@pytest.mark.parametrize("kind", values(), ids=lambda kind: kind.__name__)
def test_a_value_that_is_too_long_is_refused_by_its_length(kind: Any) -> None:
    assert re.fullmatch(
        "found [0-9]+ characters, “1{24}…”; expected at most [0-9]+", refusal(kind, "1" * (LONGEST_MANY + 1))
    )
