"""What other programs read of a check, held against the public schemas; folders; the pages."""

import json
from pathlib import Path
from xml.etree import ElementTree

import jsonschema
import pytest
import xmlschema
from program import AFTER, BEFORE, run

SCHEMAS = Path(__file__).parent / "schemas"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A kept site, a broken one, one that is unknown, and one that cannot be read."""
    (tmp_path / "a-kept.site.yaml").write_text(AFTER.read_text())
    (tmp_path / "b-broken.site.yaml").write_text(BEFORE.read_text())
    pool = AFTER.read_text().replace(
        "address: 203.0.113.9}", "address: [203.0.113.9, 203.0.113.10]}\n    pooling: arbitrary"
    )
    (tmp_path / "c-pool.site.yaml").write_text(pool)
    (tmp_path / "below").mkdir()
    (tmp_path / "below" / "d-bad.site.yaml").write_text("lantern: 1\nsite: <&\x01>\n")
    return tmp_path


@pytest.mark.parametrize("form", ["json", "sarif", "junit"])
def test_a_single_file_that_cannot_be_read_gives_a_result_that_states_the_error(form: str, folder: Path) -> None:
    done = run("check", "below/d-bad.site.yaml", "--format", form, cwd=folder)
    assert done.returncode == 2
    assert "d-bad.site.yaml:2: " in done.stderr
    if form == "json":
        (site,) = json.loads(done.stdout)["sites"]
        assert (site["error"] + "\n", site["result"]) == (done.stderr, None)
    else:
        assert "d-bad.site.yaml" in done.stdout


def test_a_folder_gives_a_line_a_site_and_a_total(folder: Path) -> None:
    done = run("check", ".", cwd=folder)
    *rows, _, total = done.stdout.splitlines()
    assert done.returncode == 2
    assert [row.split()[1:3] for row in rows if row[0] != " "] == [
        ["kept", "a-kept.site.yaml"],
        ["unknown", "c-pool.site.yaml"],
        ["broken", "b-broken.site.yaml"],
        ["bad", "input"],
    ]
    assert total == "4 sites: 1 kept, 1 unknown, 1 broken, 1 bad input"
    assert max(map(len, rows)) <= 100


def test_sarif_is_valid_by_its_public_schema_and_names_the_line(folder: Path) -> None:
    log = json.loads(run("check", ".", "--format", "sarif", cwd=folder).stdout)
    schema = json.loads((SCHEMAS / "sarif-2.1.0.json").read_text())
    jsonschema.validate(log, schema, jsonschema.Draft7Validator)
    found = {
        (each["ruleId"], place["artifactLocation"]["uri"], place["region"]["startLine"])
        for each in log["runs"][0]["results"]
        for place in [each["locations"][0]["physicalLocation"]]
    }
    assert ("range-mismatch", "b-broken.site.yaml", 18) in found
    assert ("bad-input", "below/d-bad.site.yaml", 2) in found
    rules = {each["id"] for each in log["runs"][0]["tool"]["driver"]["rules"]}
    assert {each[0] for each in found} <= rules


def test_junit_is_valid_by_its_public_schema_and_counts_promises(folder: Path) -> None:
    text = run("check", ".", "--format", "junit", cwd=folder).stdout
    xmlschema.XMLSchema(SCHEMAS / "junit-10.xsd").validate(text)
    suites = {each.get("name"): each for each in ElementTree.fromstring(text)}
    counts = {
        name: tuple(suite.get(key) for key in ("tests", "failures", "errors", "skipped"))
        for name, suite in suites.items()
    }
    assert counts == {
        "a-kept.site.yaml": ("6", "0", "0", "0"),
        "b-broken.site.yaml": ("6", "2", "0", "0"),
        "c-pool.site.yaml": ("6", "0", "0", "1"),
        "below/d-bad.site.yaml": ("1", "0", "1", "0"),
    }


def test_many_sites_on_all_processors_give_the_same_as_one_by_one(tmp_path: Path) -> None:
    for i in range(20):
        (tmp_path / f"{i:02}.site.yaml").write_text((BEFORE if i % 3 else AFTER).read_text())
    together = json.loads(run("check", ".", "--format", "json", cwd=tmp_path).stdout)["sites"]
    alone = [json.loads(run("check", f"{i:02}.site.yaml", "--format", "json", cwd=tmp_path).stdout) for i in (0, 7)]
    assert [together[0], together[7]] == [
        {"file": f"{i:02}.site.yaml", "error": None, "result": each} for i, each in zip((0, 7), alone, strict=True)
    ]


def test_explain_shows_one_page_lists_all_and_suggests() -> None:
    assert "Type the same first and last port in every place" in run("explain", "range-mismatch").stdout
    assert "account-without-path" in run("explain").stdout
    wrong = run("explain", "range-mismach")
    assert (wrong.returncode, "the nearest: range-mismatch" in wrong.stderr) == (2, True)
