"""The schema of the site file: it takes what check takes, and refuses what check refuses."""

import copy
import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from jsonschema import Draft202012Validator
from program import DATA, run
from test_bad_values import DATA as WHOLE
from test_sites import TABLE, changed

from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.formats.site.yaml_tree import YamlTree

SCHEMA = json.loads(run("schema").stdout)
WRONG = yaml.safe_load((Path(__file__).parent / "cases" / "schema.yaml").read_text())


def errors(data: Any) -> list[str]:
    return [each.message for each in Draft202012Validator(SCHEMA).iter_errors(data)]


def test_it_is_a_schema_of_the_dialect_that_it_names() -> None:
    assert SCHEMA["$schema"] == "https://json-schema.org/draft/2020-12/schema"
    Draft202012Validator.check_schema(SCHEMA)


@pytest.mark.parametrize("path", sorted(DATA.glob("*.site.yaml")), ids=lambda path: path.name)
def test_every_shipped_site_is_valid(path: Path) -> None:
    assert errors(YamlTree(path.name, path.read_text()).data) == []


def test_every_site_of_the_tests_is_valid() -> None:
    sites = [WHOLE, *(changed(case) for case in TABLE["cases"])]
    assert [found for site in sites if (found := errors(site))] == []


@pytest.mark.parametrize("case", WRONG, ids=lambda case: f"{case['at']}: {case['put']}")
def test_a_wrong_site_is_refused_by_schema_and_reader_alike(case: dict[str, Any]) -> None:
    damaged = copy.deepcopy(WHOLE)
    *way, last = case["at"].split(".")
    holder: Any = damaged
    for part in way:
        holder = holder[int(part) if part.isdigit() else part]
    if case["put"] == "(nothing at all)":
        del holder[last]
    else:
        holder[last] = case["put"]
    assert errors(damaged) != []
    with pytest.raises(BadInput):
        parse_site("x.site.yaml", json.dumps(damaged))


def test_every_key_says_what_it_means() -> None:
    described = [each for part in SCHEMA["$defs"].values() for each in (part, *part["properties"].values())]
    assert all(each["description"].endswith(".") for each in described)
