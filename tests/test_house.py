"""The layout of the house: imports point one way, in the large and inside, and the core knows no interface."""

import ast
import doctest
import re
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from functools import cache
from graphlib import CycleError, TopologicalSorter
from importlib import import_module
from pathlib import Path

import pytest
import yaml
from program import BEFORE

import eager_lantern
from eager_lantern import api
from eager_lantern.core.model import site as model

HOUSE = Path(eager_lantern.__file__).parent
ALLOWED = {
    "api": {"formats", "core"},
    "core": {"core"},
    "wire": {"wire", "core"},
    "formats": {"formats", "wire", "core"},
    "views": {"views", "wire", "core"},
    "live": {"live", "wire", "core"},
    "lab": {"lab", "live", "formats", "wire", "core"},  # a lab runs the sessions of a visit, and exported rules
    "cli": {"cli", "views", "live", "lab", "formats", "wire", "core"},
}
INSIDE = {
    "core": (
        {"changes"},
        {"mending"},
        {"sheets", "diagnosis"},
        {"verdict"},
        {"findings"},
        {"interview"},
        {"observed"},
        {"predict", "sizing"},
        {"network"},
        {"model"},
        {"values"},
    ),
    "live": ({"ftp", "ssh", "lamp", "survey"}, {"common"}, {"vantage"}, {"own_process"}),
    "lab": ({"rehearsal"}, {"kernel", "loopback", "daemons"}, {"tasks"}, {"servers", "packets"}),
}
"""The rooms inside, from the top down: each may import those below it, and itself."""
OF_THE_CORE = {
    "bisect", "collections", "datetime", "difflib", "enum", "fnmatch", "fractions", "functools", "heapq", "ipaddress",
    "itertools", "math", "msgspec", "numpy", "re", "shlex", "statistics", "types", "typing",
}  # fmt: skip
CLOCK = {"now", "today", "utcnow"}  # of the datetime module, whose values may be handed over


def modules() -> dict[str, Path]:
    """Every module by its name, without the package's own."""
    found = {}
    for path in sorted(HOUSE.rglob("*.py")):
        parts = path.relative_to(HOUSE).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


MODULES = modules()


@cache
def tree_of(path: Path) -> ast.Module:
    """A file as it is parsed."""
    return ast.parse(path.read_text())


def imports(path: Path) -> Iterator[str]:
    """Absolute names of the modules that a file imports."""
    package = ["eager_lantern", *path.relative_to(HOUSE).parent.parts]
    for node in ast.walk(tree_of(path)):
        if isinstance(node, ast.Import):
            yield from (each.name for each in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            name = ".".join([*base, *([node.module] if node.module else [])])
            for each in node.names:
                inner = f"{name}.{each.name}".removeprefix("eager_lantern.")
                yield f"{name}.{each.name}" if inner in MODULES else name


def of_ours(path: Path) -> set[str]:
    """The modules of the house that a file imports."""
    return {each.removeprefix("eager_lantern.") for each in imports(path) if each.startswith("eager_lantern.")}


def test_imports_point_one_way() -> None:
    wrong = [
        f"{name} imports {each}"
        for name, path in MODULES.items()
        for each in of_ours(path)
        if (room := name.split(".")[0]) in ALLOWED and each.split(".")[0] not in ALLOWED[room]
    ]
    assert wrong == []
    assert set(ALLOWED) | {"", "__main__", "data"} >= {each.split(".")[0] for each in MODULES}


def test_rooms_inside_import_only_what_lies_below_them() -> None:
    wrong = []
    for house, rows in INSIDE.items():
        row_of = {room: i for i, row in enumerate(rows) for room in row}
        for name, path in MODULES.items():
            if not name.startswith(f"{house}."):
                continue
            room = name.split(".")[1]
            for each in of_ours(path):
                other = each.split(".")[1] if each.startswith(f"{house}.") else room
                if other != room and row_of[other] <= row_of[room]:
                    wrong.append(f"{name} imports {each}")
    assert wrong == []


LISTS_OF_ONE_KIND = {"cli", "views", "formats/results", "formats/devices"}
MOST_IN_A_FOLDER = 12


def test_a_folder_that_is_no_list_of_one_kind_has_few_modules() -> None:
    folders = Counter(str(path.relative_to(HOUSE).parent) for path in MODULES.values() if path.stem != "__init__")
    large = {name: count for name, count in folders.items() if count > MOST_IN_A_FOLDER}
    assert set(large) <= LISTS_OF_ONE_KIND, large


def test_a_class_has_one_meaning_in_the_whole_house() -> None:
    classes = Counter(
        node.name for path in MODULES.values() for node in tree_of(path).body if isinstance(node, ast.ClassDef)
    )
    assert [name for name, count in classes.items() if count > 1] == []


def test_no_module_imports_itself_by_way_of_others() -> None:
    try:
        TopologicalSorter({name: of_ours(path) - {name} for name, path in MODULES.items()}).prepare()
    except CycleError as error:
        raise AssertionError(" → ".join(error.args[1])) from None


def test_the_core_imports_nothing_but_what_computes() -> None:
    wrong = [
        f"{name} imports {each}"
        for name, path in MODULES.items()
        for each in imports(path)
        if name.startswith("core") and each.split(".")[0] not in OF_THE_CORE | {"eager_lantern"}
    ]
    assert wrong == []


def test_core_and_wire_touch_no_interface() -> None:
    interfaces = {"asyncio", "builtins", "io", "logging", "os", "pathlib", "random", "socket", "ssl", "subprocess",
                  "sys", "tempfile", "threading", "time"}  # fmt: skip
    trees = {name: tree_of(path) for name, path in MODULES.items() if name.startswith(("core", "wire"))}
    wrong = [
        f"{name} imports {each}"
        for name in trees
        for each in imports(MODULES[name])
        if each.split(".")[0] in interfaces
    ]
    nodes = [(name, node) for name, tree in trees.items() for node in ast.walk(tree)]
    calls = [
        f"{name}:{node.lineno} calls {node.func.id}"
        for name, node in nodes
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in {"print", "open", "input"}
    ]
    clocks = [
        f"{name}:{node.lineno} asks the clock"
        for name, node in nodes
        if isinstance(node, ast.Attribute) and node.attr in CLOCK
    ]
    assert wrong + calls + clocks == []


@pytest.mark.parametrize("name", [name for name, path in MODULES.items() if "\n>>> " in path.read_text()])
def test_the_theory_of_a_module_is_as_its_example_says(name: str) -> None:
    assert doctest.testmod(import_module(f"eager_lantern.{name}")).failed == 0


PAGE = (Path(__file__).parents[1] / "docs" / "library.md").read_text()


def test_the_library_does_what_its_page_shows(tmp_path: Path) -> None:
    program, printed = (re.search(rf"```{kind}\n(.*?)```", PAGE, re.S)[1] for kind in ("python", "text"))  # type: ignore[index]
    shutil.copy(BEFORE, tmp_path)
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, cwd=tmp_path, timeout=60)
    assert (done.stderr, done.stdout) == ("", printed)


def test_whoever_uses_the_library_needs_no_module_but_the_public_one() -> None:
    assert sorted(api.__all__) == sorted(each for each in vars(api) if not each.startswith("_") and each not in MODULES)
    assert (HOUSE / "py.typed").exists()


FIELDS = yaml.safe_load((Path(__file__).parent / "cases" / "fields.yaml").read_text())
ROOMS_OF_FIELDS = {
    "predicted": ("core.network", "core.predict"), "opened": ("core.predict.ledger",), "pages": ("core.sheets",),
    "rules": ("formats.devices.packet_filter.nftables", "lab.kernel.layout"),
    "relays": ("lab.loopback", "lab.rehearsal", "lab.servers", "live.common.visit_plan"),
}  # fmt: skip


@cache
def words(rooms: tuple[str, ...]) -> set[str]:
    """The attributes, arguments and names of keys that the modules of rooms speak of."""
    nodes = [node for name, path in MODULES.items() if name.startswith(rooms) for node in ast.walk(tree_of(path))]
    found = {node.attr for node in nodes if isinstance(node, ast.Attribute)}
    found |= {node.func.id for node in nodes if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)}
    found |= {node.arg for node in nodes if isinstance(node, ast.keyword) and node.arg}
    return found | {node.value for node in nodes if isinstance(node, ast.Constant) and isinstance(node.value, str)}


@pytest.mark.parametrize("kind", sorted(map(str, FIELDS)))
def test_every_key_has_a_row_that_states_where_it_has_its_effect(kind: str) -> None:
    assert list(FIELDS[kind]) == list(getattr(model, kind).__struct_fields__)
    for column, rooms in ROOMS_OF_FIELDS.items():
        spoken = words(rooms)
        for field, row in FIELDS[kind].items():
            said = "yes" if row[column] is True else row[column]
            name = field if said == "yes" else said.removeprefix("by ") if said.startswith("by ") else None
            assert (name is None) == (field not in spoken and not said.startswith("by ")), (field, column, said)
            assert name is None or name in spoken, f"{column}: nothing speaks of {name}"


def test_every_type_of_the_site_file_has_its_rows() -> None:
    parts = {name for name, each in vars(model).items() if isinstance(each, type) and issubclass(each, model.Part)}
    assert parts - {"Part", "CompleteClient"} == set(FIELDS)
