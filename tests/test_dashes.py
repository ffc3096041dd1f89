"""Names that begin as options do: what is printed for copying works with them, or they are refused by name."""

import shlex
from pathlib import Path

import pytest
from program import AFTER, run

from eager_lantern.core.values.phrases import operand


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    text = AFTER.read_text()
    for name in ("field-station", "tide-exchange", "gauge-store"):
        text = text.replace(name, f"-{name}")
    text = text.replace("name: station,", "name: -x,").replace("name: tides.saltmarsh.example", "name: -tides.example")
    (tmp_path / "-pier.site.yaml").write_text(
        text.replace("reaches: tides.saltmarsh.example", "reaches: -tides.example")
    )
    return tmp_path


def test_every_command_of_ours_that_is_printed_for_a_site_of_dashes_is_understood(folder: Path) -> None:
    shown = run("check", "--", "-pier.site.yaml", cwd=folder)
    assert shown.returncode == 0, shown.stderr
    done = run("sheets", "--into", "pages", "--", "-pier.site.yaml", cwd=folder)
    assert done.returncode == 0, done.stderr
    pages = "\n".join(path.read_text() for path in sorted((folder / "pages").glob("*.md")))
    lines = [line.strip().strip("`") for line in (shown.stdout + done.stdout + pages).splitlines()]
    ours = {line[line.index("eager-lantern ") :].partition("   ")[0] for line in lines if "eager-lantern " in line}
    commands = [shlex.split(each)[1:] for each in ours if each.split()[1] in ("check", "visit", "rehearse", "sheets")]
    assert {words[0] for words in commands} == {"visit", "rehearse"}
    assert "nslookup -tides.example" not in pages  # it would be taken for an option
    for words in commands:
        tried = run(words[0], "--timeout", "nonsense", *words[1:], cwd=folder) if words[0] == "visit" else None
        said = tried.stderr if tried else run(*words[:1], "--help", *words[1:], cwd=folder).stderr
        assert "No such option" not in said, words
        assert "requires an argument" not in said, words


@pytest.mark.parametrize("name", ["-x.example", "a b", "x..example", "-", "a;b", "$(x)", "x-.example", "a" * 64])
def test_a_name_that_no_host_can_have_is_in_no_certificate(name: str, tmp_path: Path) -> None:
    done = run("certificate", AFTER, "--name", name, "--into", tmp_path)
    assert (done.returncode, "expected a host name" in done.stderr) == (2, True)
    assert list(tmp_path.iterdir()) == []


def test_a_last_word_is_quoted_and_never_an_option() -> None:
    assert [operand(each) for each in ("boat", "two boats", "-x", "-two x")] == [
        "boat", "'two boats'", "-- -x", "-- '-two x'",
    ]  # fmt: skip
