"""The layout of the house: imports point one way, and the core knows no interface."""

import ast
from collections.abc import Iterator
from pathlib import Path

import eager_lantern

HOUSE = Path(eager_lantern.__file__).parent
ALLOWED = {
    "core": {"core"},
    "wire": {"wire", "core"},
    "files": {"files", "wire", "core"},
    "live": {"live", "wire", "core"},
    "lab": {"lab", "live", "wire", "core"},  # a lab runs the very sessions that a visit runs
    "views": {"views", "wire", "core"},
    "cli": {"cli", "views", "live", "lab", "files", "wire", "core"},
}
CLOCK = {"now", "today", "utcnow"}  # of the datetime module, whose values may be handed over
INTERFACES = {
    "asyncio", "builtins", "io", "logging", "os", "pathlib", "random", "requests", "rich", "secrets",
    "select", "shutil", "socket", "ssl", "subprocess", "sys", "tempfile", "threading", "time", "typer", "yaml",
}  # fmt: skip


def imports(path: Path) -> Iterator[str]:
    """Absolute names of the modules that a file imports."""
    package = ["eager_lantern", *path.relative_to(HOUSE).parent.parts]
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (each.name for each in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            yield ".".join([*base, *([node.module] if node.module else [])])


def test_imports_point_one_way() -> None:
    wrong = [
        f"{path.relative_to(HOUSE)} imports {name}"
        for room, allowed in ALLOWED.items()
        for path in (HOUSE / room).glob("*.py")
        for name in imports(path)
        if name.startswith("eager_lantern.") and name.split(".")[1] not in allowed
    ]
    assert wrong == []


def test_core_and_wire_touch_no_interface() -> None:
    wrong = [
        f"{path.relative_to(HOUSE)} imports {name}"
        for room in ("core", "wire")
        for path in (HOUSE / room).glob("*.py")
        for name in imports(path)
        if name.split(".")[0] in INTERFACES
    ]
    calls = [
        f"{path.relative_to(HOUSE)}:{node.lineno} calls {node.func.id}"
        for room in ("core", "wire")
        for path in (HOUSE / room).glob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in {"print", "open", "input"}
    ]
    clocks = [
        f"{path.relative_to(HOUSE)}:{node.lineno} asks the clock"
        for room in ("core", "wire")
        for path in (HOUSE / room).glob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Attribute) and node.attr in CLOCK
    ]
    assert wrong + calls + clocks == []
