"""The pages of docs/: what they show is run, what is made from the program is as the program makes it now."""

import os
import re
import runpy
import subprocess
import sys
from pathlib import Path

import pytest
from program import run

from eager_lantern.formats.shipped import finding_pages, symptoms, symptoms_like, terms
from eager_lantern.formats.site.reference import key_page

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
SHOWN = re.compile(r"<!-- runs ?([0-9 ]*)-->\n```sh\n(.*?)```", re.DOTALL)
PAGES = [page for page in sorted(DOCS.rglob("*.md")) if SHOWN.search(page.read_text())]
LINK = re.compile(r"\]\(([^)#:\s]+)(#[^)]*)?\)")

pytestmark = pytest.mark.skipif(not DOCS.exists(), reason="docs/ is not here: an installed package is tested")


@pytest.mark.sweep
@pytest.mark.timeout(1800)  # a minute on an idle machine
@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_every_command_of_a_page_ends_as_the_page_says(page: Path, tmp_path: Path) -> None:
    program = f'eager-lantern() {{ "{sys.executable}" -m eager_lantern "$@"; }}\n'
    assert run("demo", "--keep", "saltmarsh", cwd=tmp_path).returncode == 0
    for codes, block in SHOWN.findall(page.read_text()):
        lines = block.replace("\\\n", " ").splitlines()
        expected = [int(each) for each in codes.split()]
        for line, code in zip(lines, expected or [0] * len(lines), strict=True):
            done = subprocess.run(
                ["bash", "-c", program + line],
                capture_output=True,
                text=True,
                cwd=tmp_path,
                timeout=600,
                stdin=subprocess.DEVNULL,
                env={**os.environ, "COLUMNS": "100"},
            )
            assert done.returncode == code, (line, done.stdout, done.stderr)


@pytest.mark.parametrize(
    "name", ["site-file.md", "findings.md", "symptoms.md", "faults.md", "mending.md", "results.md"]
)
def test_a_page_that_is_made_from_the_program_is_as_it_is_made_now(name: str) -> None:
    made = runpy.run_path(str(DOCS / "generate"))["PAGES"][name]()
    assert "\n".join(made) + "\n" == (DOCS / name).read_text(), "run docs/generate"


@pytest.mark.parametrize("page", [*sorted(ROOT.glob("*.md")), *sorted(DOCS.rglob("*.md"))], ids=lambda page: page.stem)
def test_every_link_of_a_page_leads_somewhere(page: Path) -> None:
    for target, anchor in LINK.findall(page.read_text()):
        assert (page.parent / target).exists(), target
        if anchor and target.endswith(".md"):
            heads = re.findall(r"^#+ (.*)$", (page.parent / target).read_text(), re.MULTILINE)
            slugs = {re.sub(r"[\s-]+", "-", re.sub(r"[^\w\s-]", "", each.lower()).strip()) for each in heads}
            assert anchor[1:] in slugs, (target, anchor)


@pytest.mark.parametrize("word", list(terms()))
def test_a_word_of_the_trade_leads_to_pages_that_exist_and_stands_in_the_glossary(word: str) -> None:
    kinds = finding_pages()
    assert [each for each in terms()[word] if each not in kinds and key_page(each) is None] == []
    assert f"| {word} | {', '.join(f'`{each}`' for each in terms()[word])} |" in (DOCS / "glossary.md").read_text()


def test_explain_finds_a_word_of_the_trade() -> None:
    done = run("explain", "NAT", "reflection")
    assert done.returncode == 0
    assert "NAT reflection: see gateways.hairpin, hairpin-needed" in done.stdout


@pytest.mark.parametrize("name", list(symptoms()))
def test_each_phrase_of_what_people_see_leads_to_its_page_and_that_to_pages_that_exist(name: str) -> None:
    kinds = finding_pages()
    assert [each for each in symptoms()[name].pages if each not in kinds and key_page(each) is None] == []
    assert [each for each in symptoms()[name].words if name not in symptoms_like(each)] == []
    assert [each for each in symptoms()[name].words if name not in symptoms_like(f"Error: {each} (server)")] == []


def test_explain_of_a_reply_states_what_it_can_and_cannot_be_and_of_nonsense_the_nearest() -> None:
    shown = " ".join(run("explain", "530", "Login", "incorrect").stdout.split())
    assert "It cannot be a forward, a filter, NAT or the passive range." in shown
    wrong = run("explain", "range-mismach")
    assert (wrong.returncode, "the nearest: range-mismatch" in wrong.stderr) == (2, True)


SHOTS = sorted((DOCS / "screenshots").glob("*.png"))
LEAST_INK = 0.002


def test_there_are_few_pictures_and_every_one_is_linked() -> None:
    text = "".join(page.read_text() for page in (ROOT / "README.md", DOCS / "commands.md"))
    assert len(SHOTS) < 20
    assert [each.name for each in SHOTS if f"screenshots/{each.name}" not in text] == []


@pytest.mark.parametrize("shot", SHOTS, ids=lambda shot: shot.stem)
def test_a_picture_shows_more_than_the_command_that_was_typed(shot: Path) -> None:
    image = pytest.importorskip("PIL.Image", reason="needs the extra “pictures”").open(shot).convert("L")
    below = image.crop((0, min(60, image.height // 3), image.width, image.height))
    counts = below.histogram()
    assert 1 - max(counts) / sum(counts) > LEAST_INK
