"""Site files damaged in every way: an error with file and line, or a verdict; never a traceback."""

import copy
import itertools
import json
import re
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from program import BEFORE, run
from program import DATA as SHIPPED

from eager_lantern.core.findings.surveyed import survey_findings
from eager_lantern.core.model import site as model
from eager_lantern.core.model.site import Site
from eager_lantern.core.verdict import judge
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import read_files
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.results.kept import read_survey, read_visits_or_lamp
from eager_lantern.formats.results.lamp import LampResult
from eager_lantern.formats.results.observations import lit_places, reached_at, read_observations
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.site.yaml_tree import YamlTree

CASES = Path(__file__).parent / "cases"
WHOLE = SHIPPED / "every-key.site.yaml"
DATA = YamlTree(WHOLE.name, WHOLE.read_text()).data
WRONG: list[Any] = [
    None, True, -1, 0, 65536, 10**25, 1.5, "", " ", "☂", "a b", "1-", "9-3", "10.61.4.999", "10.61.4.0/33", "::g",
    "2001:db8::61", "5 parsec", [], [[1]], {}, {"a": 1}, "own", "none", "x" * 300, "\x1b[31m", "0.0.0.0", "*",
]  # fmt: skip


def places(value: Any, place: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    if place:
        yield place
    parts = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, part in parts:
        yield from places(part, (*place, key))


def test_the_whole_site_uses_every_key_of_the_format() -> None:
    known = {
        field.encode_name
        for kind in vars(model).values()
        if isinstance(kind, type) and issubclass(kind, model.Part)
        for field in msgspec.structs.fields(kind)
    }
    used = {str(place[-1]) for place in places(DATA)}
    assert known - used == set()
    assert read_site(WHOLE).site.site == "Saltmarsh Tide Survey"


@pytest.mark.sweep
@pytest.mark.parametrize("wrong", WRONG, ids=lambda wrong: str(wrong)[:12])
def test_any_value_in_any_place_gets_a_verdict_or_a_line(wrong: Any) -> None:
    for place in places(DATA):
        damaged = copy.deepcopy(DATA)
        holder = damaged
        for part in place[:-1]:
            holder = holder[part]
        holder[place[-1]] = wrong
        text = json.dumps(damaged, indent=1)
        try:
            judge(parse_site("x.site.yaml", text).site)
        except BadInput as error:
            for line in str(error).splitlines():
                assert re.match(r"x\.site\.yaml(:[1-9][0-9]*)?: .|more: eager-lantern explain [a-z0-9_.]+$", line), (
                    place,
                    line,
                )
                assert "Expected `" not in line, (place, line)


@pytest.mark.parametrize("name", ["lamp", "range", "survey", "visit"])
def test_any_value_in_any_place_of_a_kept_result_is_read_or_refused(name: str, tmp_path: Path) -> None:
    """Where a value is a text, what it is of (ports, an address) shows only once it is used."""
    site = read_site(SHIPPED / "saltmarsh-after.site.yaml").site
    kept = json.loads((CASES / f"kept-{name}.json").read_text())
    file = tmp_path / "kept.json"
    refused = 0
    for place, wrong in itertools.product(places(kept), [*WRONG, "61328-665536455", "fe80::1%eth0"]):
        damaged = copy.deepcopy(kept)
        holder = damaged
        for part in place[:-1]:
            holder = holder[part]
        holder[place[-1]] = wrong
        file.write_text(json.dumps(damaged))
        for read in READERS:
            try:
                read(file, site)
            except BadInput:
                refused += 1
    assert refused


def _read_lit(file: Path, site: Site) -> None:
    found = read_visits_or_lamp(file, b"")
    if isinstance(found, LampResult):
        lit_places(file, found, site)


READERS: tuple[Callable[[Path, Site], object], ...] = (
    lambda file, site: read_observations(file, site, "field-station"), _read_lit, lambda file, _: reached_at(file),
    lambda file, site: survey_findings(site, read_survey(file).survey),
    lambda file, site: read_files({file.name: file.read_text()}, DeviceTarget(site, "gauge-store")),
)  # fmt: skip

LINES = BEFORE.read_text().splitlines()
tokens = st.sampled_from(sorted(set(re.findall(r"[\w.:/-]+", BEFORE.read_text()))))


@st.composite
def damaged_texts(draw: st.DrawFn) -> str:
    """The shipped site with some of its lines or words changed."""
    lines = list(LINES)
    for _ in range(draw(st.integers(1, 4))):
        at = draw(st.integers(0, len(lines) - 1))
        match draw(st.integers(0, 5)):
            case 0:
                del lines[at]
            case 1:
                lines.insert(at, lines[draw(st.integers(0, len(lines) - 1))])
            case 2:
                lines[at] = draw(st.text(max_size=30))
            case 3:
                lines[at] = " " * draw(st.integers(0, 8)) + lines[at].strip()
            case _:
                words = re.findall(r"[\w.:/-]+", lines[at])
                if words:
                    lines[at] = lines[at].replace(draw(st.sampled_from(words)), draw(tokens), 1)
    return "\n".join(lines)


@settings(max_examples=12)
@given(st.lists(damaged_texts(), min_size=20, max_size=20))
def test_damaged_files_never_end_in_a_traceback_or_hang(texts: list[str]) -> None:
    with tempfile.TemporaryDirectory() as name:
        for i, text in enumerate(texts):
            (Path(name) / f"{i}.site.yaml").write_text(text, errors="replace")
        done = run("check", name, "--format", "json")
    assert done.returncode in range(4)
    assert done.stderr == ""
    assert len(json.loads(done.stdout)["sites"]) == len(texts)


@pytest.mark.parametrize(
    ("shares", "says"),
    [
        (
            ("1-100", "90-200"),
            "found ports 90-100 of 198.51.100.61 at pier and at quay; expected shares that do not overlap",
        ),
        (("1-100", "101-200"), "found 198.51.100.61, which pier shares; expected one of its customers"),
    ],
)
def test_two_devices_that_share_an_address_are_told_which_ports_are_whose(shares: tuple[str, str], says: str) -> None:
    gateways = [
        {
            "name": name,
            "outside": {"network": "internet", "address": "198.51.100.61", "ports": ports},
            "inside": {"network": name, "address": f"10.61.{i}.1"},
            "translate": "outward",
        }
        for i, (name, ports) in enumerate(zip(("pier", "quay"), shares, strict=True))
    ]
    networks = [{"name": "pier", "subnet": "10.61.0.0/24"}, {"name": "quay", "subnet": "10.61.1.0/24"}]
    server = {"name": "store", "network": "pier", "address": "10.61.0.20"}
    site = {"lantern": 1, "site": "Pier", "networks": networks, "gateways": gateways, "server": server}
    with pytest.raises(BadInput, match=re.escape(says)):
        parse_site("pier", json.dumps(site))
