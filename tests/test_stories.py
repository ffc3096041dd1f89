"""Situations of people, from a blank page to the pages to work from: the built program, step by step."""

import shlex
from pathlib import Path
from typing import Any

import pytest
import yaml
from program import run

STORIES = yaml.safe_load((Path(__file__).parent / "cases" / "stories.yaml").read_text())


def squeezed(text: str) -> str:
    return " ".join(text.replace("\\_", "_").split())


@pytest.mark.parametrize("story", STORIES, ids=lambda story: story["who"])
def test_a_situation_ends_as_somebody_in_it_needs(story: dict[str, Any], tmp_path: Path) -> None:
    for step in story["steps"]:
        if "edit" in step:
            path = tmp_path / step["edit"]
            text = path.read_text()
            assert text.count(step["find"]) >= 1, step
            path.write_text(text.replace(step["find"], step["put"]))
            continue
        if "page" in step:
            shown = (tmp_path / step["page"]).read_text()
        else:
            done = run(*shlex.split(step["run"]), cwd=tmp_path)
            shown = done.stdout + done.stderr
            assert done.returncode == step.get("exit", 0), (step, shown)
        assert [each for each in step.get("shows", ()) if squeezed(each) not in squeezed(shown)] == [], (step, shown)
        assert [each for each in step.get("hides", ()) if squeezed(each) in squeezed(shown)] == [], (step, shown)
        assert "absent" not in step or not (tmp_path / step["absent"]).exists()
