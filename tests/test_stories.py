"""Situations of people, from a blank page to the pages to work from: the built program, step by step."""

import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml
from program import result_of, run

from eager_lantern.lab.kernel.lab import missing_means

LACK = missing_means()

STORIES = yaml.safe_load((Path(__file__).parent / "cases" / "stories.yaml").read_text())


def squeezed(text: str) -> str:
    return " ".join(text.replace("\\_", "_").split())


def walked(story: dict[str, Any], folder: Path) -> Iterator[tuple[dict[str, Any], int, str]]:
    """Each step of a story that shows something, with its exit code and what it shows."""
    for step in story["steps"]:
        if "edit" in step:
            path = folder / step["edit"]
            text = path.read_text()
            assert text.count(step["find"]) >= 1, step
            path.write_text(text.replace(step["find"], step["put"]))
        elif "page" in step:
            yield step, 0, (folder / step["page"]).read_text()
        else:
            done = run(*shlex.split(step["run"]), cwd=folder)
            yield step, done.returncode, done.stdout + done.stderr


@pytest.mark.parametrize("story", STORIES, ids=lambda story: story["who"])
def test_a_situation_ends_as_somebody_in_it_needs(story: dict[str, Any], tmp_path: Path) -> None:
    for step, code, shown in walked(story, tmp_path):
        assert code == step.get("exit", 0), (step, shown)
        assert [each for each in step.get("shows", ()) if squeezed(each) not in squeezed(shown)] == [], (step, shown)
        assert [each for each in step.get("hides", ()) if squeezed(each) in squeezed(shown)] == [], (step, shown)
        assert "absent" not in step or not (tmp_path / step["absent"]).exists()


@pytest.mark.kernel
@pytest.mark.sweep
@pytest.mark.timeout(1800)
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("story", STORIES, ids=lambda story: story["who"])
def test_each_site_of_a_situation_behaves_in_the_lab_as_predicted(story: dict[str, Any], tmp_path: Path) -> None:
    tried = set()
    for _ in walked(story, tmp_path):
        for path in sorted(tmp_path.glob("*.site.yaml")):
            expected = run("check", path, cwd=tmp_path).returncode
            if path.read_bytes() in tried or expected not in (0, 1):  # what is not filled in has no lab
                continue
            tried.add(path.read_bytes())
            done = run("rehearse", path, "--format", "json", cwd=tmp_path)
            agree = [each["agree"] for each in result_of(done.stdout)["promises"]]
            assert False not in agree, (path.read_text(), done.stdout)
            assert done.returncode == (3 if None in agree else expected)
