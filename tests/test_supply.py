"""What is installed, and under which licences: locked by hash, and listed."""

import json
import re
from pathlib import Path

ROOT = Path(__file__).parents[1]
PIN = re.compile(r"^([A-Za-z0-9._-]+)==(\S+?)(?: ; (.*?))?(?: \\)?$", re.MULTILINE)


def tidy(name: str) -> str:
    """A package's name as the registry compares it (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def locked(name: str) -> dict[str, set[str]]:
    """The versions of each package that a lock admits; a few have another on a newer Python."""
    found: dict[str, set[str]] = {}
    for package, version, _ in PIN.findall((ROOT / "locked" / name).read_text()):
        found.setdefault(tidy(package), set()).add(version)
    return found


def test_everything_that_the_readme_installs_is_locked_by_hash() -> None:
    for name in ("run.txt", "test.txt"):
        parts = re.split(r"\n(?=[A-Za-z0-9])", (ROOT / "locked" / name).read_text().strip())
        assert [each.splitlines()[0] for each in parts if "--hash=sha256:" not in each] == []
        assert {"hatchling", "typer", "cryptography"} <= locked(name).keys()
        assert f"--require-hashes -r locked/{name}" in (ROOT / "README.md").read_text()
    assert "matplotlib" in locked("test.txt")
    assert "matplotlib" not in locked("run.txt")


def test_the_bill_of_materials_and_the_licences_list_what_is_locked() -> None:
    bill = json.loads((ROOT / "supply" / "sbom.cdx.json").read_text())
    listed = {tidy(each["name"]): each["version"] for each in bill["components"]}
    assert bill["bomFormat"] == "CycloneDX"
    wanted = locked("run.txt")
    assert {name for name in listed if name not in wanted} <= {"pip", "setuptools", "wheel"}
    assert [name for name, version in listed.items() if name in wanted and version not in wanted[name]] == []
    assert {"asyncssh", "cryptography", "hatchling", "typer"} <= listed.keys()
    page = (ROOT / "supply" / "third-party-licences.md").read_text()
    rows = re.findall(r"^\| (\S+) \| (\S+) \| (.+) \|$", page, re.MULTILINE)
    assert {tidy(name): version for name, version, _ in rows if name != "package"}.items() >= {
        name: version for name, version in listed.items() if name in wanted
    }.items()
    assert "A bundle is not MIT alone" in page


def test_every_test_that_the_page_on_security_names_is_there() -> None:
    page = (ROOT / "SECURITY.md").read_text()
    source = "\n".join(path.read_text() for path in (ROOT / "tests").glob("*.py"))
    named = set(re.findall(r"`(test_\w+)(?:\.py)?`", page))
    assert len(named) > 20
    assert [
        each for each in sorted(named) if f"def {each}(" not in source and not (ROOT / "tests" / f"{each}.py").exists()
    ] == []
