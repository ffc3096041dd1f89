"""The pages to work from, and the rule files: complete, printable, and equal to the site."""

import csv
import json
import os
import random
import re
import shlex
import shutil
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
import typer
import yaml
from hypothesis import HealthCheck, Phase, given, seed, settings
from program import AFTER, BEFORE, run, run_bound_by_modes
from rich_sites import rich_sites
from side_by_side import compared, exported

from eager_lantern.cli import certificate, check, diagnose, lamp, visit
from eager_lantern.core.sheets.all import sheets_of
from eager_lantern.core.sheets.sheet import Sheet, SheetPart, slug
from eager_lantern.core.verdict import judge
from eager_lantern.formats.devices.packet_filter.nftables import rule_files
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.site.yaml_tree import YamlTree
from eager_lantern.lab.kernel.lab import UNSHARE, missing_means

COAST = Path(__file__).parent / "cases" / "coast"
SITES = {"saltmarsh-after": AFTER, "cloud": COAST / "cloud.site.yaml", "six": COAST / "six.site.yaml"}
READ = yaml.safe_load((Path(__file__).parent / "cases" / "sheets.yaml").read_text())
LACK = missing_means()
PRINTS = shutil.which("chromium") and shutil.which("pdfinfo")
kernel = [pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]


@pytest.fixture(scope="module")
def pages(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The folder of pages of each site."""
    folder = tmp_path_factory.mktemp("pages")
    done = {name: run("sheets", path, "--into", folder / name) for name, path in SITES.items()}
    assert {name: each.returncode for name, each in done.items()} == dict.fromkeys(SITES, 0)
    return {name: folder / name for name in SITES}


@pytest.mark.parametrize(("site", "page"), [(site, page) for site, found in READ.items() for page in found])
def test_a_page_has_the_lines_that_its_reader_needs(site: str, page: str, pages: dict[str, Path]) -> None:
    lines = (pages[site] / f"{page}.md").read_text().splitlines()
    assert [each for each in READ[site][page] if each not in lines] == []


@pytest.mark.parametrize("site", SITES)
def test_the_tables_say_of_forwards_and_rules_what_the_site_says(site: str, pages: dict[str, Path]) -> None:
    read = read_site(SITES[site]).site
    written = {path.stem[3:]: list(csv.reader(path.open(newline=""))) for path in pages[site].glob("*.csv")}
    for gateway in read.gateways:
        rows = written.get(f"{gateway.name}-forwards", [[]])[1:]
        assert [(row[2], row[3]) for row in rows] == [(str(each.ports), str(each.to)) for each in gateway.forwards]
    rules = written[f"{read.server.name}-its-own-filter-what-comes-in"][1:-1]
    shown = [(each.name, str(each.from_ or "anywhere")) for each in read.server.filter.incoming.rules]
    assert [(row[6].partition(";")[0], row[4]) for row in rules] == shown


class Resources(HTMLParser):
    """What a page asks for elsewhere."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found += [tag for key, _ in attrs if key in {"src", "href", "srcset", "data", "action"}]
        self.found += [tag] if tag in {"script", "link", "iframe", "object", "img"} else []


def test_the_printable_file_is_one_file_that_asks_for_nothing_elsewhere(pages: dict[str, Path]) -> None:
    for folder in pages.values():
        text = (folder / "all-pages.html").read_text()
        parser = Resources()
        parser.feed(text)
        assert (parser.found, "url(" in text, "@import" in text) == ([], False, False)


def test_names_are_never_taken_for_markup(tmp_path: Path) -> None:
    data = YamlTree("x", AFTER.read_text()).data
    data["site"], data["server"]["name"] = "<b>Salt|marsh</b>", "a|<i>*b*"
    (tmp_path / "x.site.yaml").write_text(json.dumps(data))
    assert run("sheets", tmp_path / "x.site.yaml", "--into", tmp_path / "p").returncode == 0
    html, page = (tmp_path / "p/all-pages.html").read_text(), (tmp_path / "p/01-a-i-b.md").read_text()
    assert ("<b>Salt" in html, "<i>" in html, "<b>" in page) == (False, False, False)
    assert page.startswith("# a\\|&lt;i&gt;\\*b\\*\n")


@pytest.mark.browser
@pytest.mark.skipif(
    not (shutil.which("chromium") and shutil.which("pdfinfo")), reason="needs chromium and poppler-utils"
)
def test_it_prints_on_pages_of_a4(pages: dict[str, Path], tmp_path: Path) -> None:
    quiet = ["--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-sync"]
    for name, folder in pages.items():
        pdf = tmp_path / f"{name}.pdf"
        words = ["chromium", "--headless", "--no-sandbox", *quiet, f"--user-data-dir={tmp_path / 'profile'}",
                 "--no-pdf-header-footer", f"--print-to-pdf={pdf}", (folder / "all-pages.html").as_uri()]  # fmt: skip
        subprocess.run(words, check=True, capture_output=True, timeout=280)
        told = subprocess.run(["pdfinfo", pdf], check=True, capture_output=True, text=True).stdout
        assert re.search(r"Page size: +59[45]\.\d+ x 84[12]\.\d+ pts \(A4\)", told)
        sheets = len(list(folder.glob("*.md")))
        assert sheets <= int(re.search(r"Pages: +(\d+)", told)[1]) <= 2 * sheets  # type: ignore[index]
        printed = subprocess.run(["pdftotext", "-layout", pdf, "-"], check=True, capture_output=True, text=True).stdout
        tops = [each.strip().splitlines()[0] for each in printed.split("\f") if each.strip()]
        assert [each for each in tops if " · " not in each] == []


def accepted(path: Path) -> str:
    done = subprocess.run([*UNSHARE, "nft", "-c", "-f", path], capture_output=True, text=True, check=False)
    return done.stderr


class TestRuleFiles:
    """What a Linux device loads, held against the kernel."""

    pytestmark = kernel

    def test_nft_accepts_every_exported_file(self, pages: dict[str, Path]) -> None:
        found = [path for folder in pages.values() for path in folder.glob("*.nft")]
        assert sorted(path.name for path in found) == [
            "gauge-store.nft",
            "lamp-store.nft",
            "mole-wall.nft",
            "rack-router.nft",
        ]
        assert [accepted(path) for path in found] == [""] * 4

    @pytest.mark.lab
    @pytest.mark.parametrize("site", SITES)
    def test_exported_files_let_pass_what_the_site_says(self, site: str, pages: dict[str, Path]) -> None:
        data = YamlTree(site, SITES[site].read_text()).data
        for each in (data["server"], *data["clients"]):
            each["address"] = str(each["address"])
        for gateway in data["gateways"]:
            gateway.setdefault("pairs", [])
        found = compared(data, 120, random.Random(61), nodes_of=exported(pages[site]))
        assert [each for each in found if each.differs] == []
        assert sum(each.kind == "session" and each.predicted == "works" for each in found) >= 2

    @pytest.mark.sweep
    @settings(max_examples=4, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
    @seed(90)
    @given(rich_sites())
    def test_exported_files_of_random_sites_agree_with_the_prediction(
        self, tmp_path_factory: pytest.TempPathFactory, site: dict[str, Any]
    ) -> None:
        for each in (site["server"], *site["gateways"]):
            each["system"] = "linux"
        folder = tmp_path_factory.mktemp("rules")
        files = rule_files(parse_site("random", json.dumps(site)).site)
        for name, text in files.items():
            (folder / f"{slug(name)}.nft").write_text(text)
        assert [trouble for path in folder.iterdir() if (trouble := accepted(path))] == []
        found = compared(site, 120, random.Random(61), nodes_of=exported(folder))
        assert [each for each in found if each.differs] == [], json.dumps(site)

    def test_a_full_disk_is_one_line_and_nothing_is_half_written(self, tmp_path: Path) -> None:
        words = (
            f"mount -t tmpfs -o size=64k none {tmp_path} && cd {tmp_path} && "
            f"{sys.executable} -m eager_lantern sheets {AFTER} --into pages; echo $? $(ls -A)"
        )
        done = subprocess.run([*UNSHARE, "bash", "-c", words], capture_output=True, text=True, check=False)
        assert done.stdout == "2\n"
        assert re.fullmatch(
            r"pages/\S+: found that it cannot be written \(no space .+; expected a place to write to\n",
            done.stderr,
        )


def test_a_site_that_breaks_its_promises_says_so_on_every_page(tmp_path: Path) -> None:
    done = run("sheets", BEFORE, "--into", tmp_path / "p")
    assert (done.returncode, "Mend the site file first" in done.stdout) == (1, True)
    assert [
        path.name for path in (tmp_path / "p").glob("*.md") if "Mend the site file first" not in path.read_text()
    ] == []


def test_nothing_is_overwritten_unless_forced_and_never_a_strangers_file(tmp_path: Path) -> None:
    folder = tmp_path / "pages"
    assert run("sheets", AFTER, "--into", folder).returncode == 0
    (folder / "02-harbour-router.md").write_text("mine")
    (folder / "notes.txt").write_text("mine too")
    again = run("sheets", AFTER, "--into", folder)
    assert (again.returncode, again.stdout, len(again.stderr.splitlines())) == (2, "", 1)
    assert (folder / "02-harbour-router.md").read_text() == "mine"
    assert run("sheets", AFTER, "--into", folder, "--force").returncode == 0
    assert (folder / "02-harbour-router.md").read_text() != "mine"
    assert (folder / "notes.txt").read_text() == "mine too"
    shut = tmp_path / "shut"
    shut.mkdir(mode=0o555)
    refused = run_bound_by_modes("sheets", AFTER, "--into", shut / "pages")
    assert (refused.returncode, "permission denied" in refused.stderr) == (2, True)
    assert run("sheets", AFTER, "--into", folder / "notes.txt").returncode == 2


def test_sheets_as_json_have_every_page_with_its_tables(tmp_path: Path) -> None:
    result = json.loads(run("sheets", AFTER, "--into", tmp_path / "p", "--format", "json").stdout)
    assert (result["format"], result["trouble"], len(result["pages"])) == ("eager-lantern/sheets/1", "", 11)
    forwards = next(each for each in result["pages"][2]["parts"] if each["title"] == "Forwards")
    assert forwards["grid"]["rows"][1] == ["data", "TCP", "61200-61455", "10.61.4.20", "61200-61455", "anywhere", "on"]
    assert sorted(result["files"]) == sorted(each.name for each in (tmp_path / "p").iterdir())


def accounts_page(system: str, folder: Path, accounts: list[dict[str, Any]]) -> dict[str, SheetPart]:
    """The parts of the server's page of the demo with these accounts of its system, whose homes are in a folder."""
    raw = yaml.safe_load(AFTER.read_text())
    raw["server"]["system"] = system
    raw["groups"] = [{"name": "gaugers", "rights": ["list"]}, {"name": "readers", "rights": ["read"]}]
    raw["accounts"] = [{"service": "tide-exchange", "home": f"{folder}/{each['name']}", **each} for each in accounts]
    sheets = sheets_of(judge(parse_site("pages", json.dumps(raw)).site), "pages.site.yaml", {}, {})
    return {part.title: part for part in sheets.pages[1].parts}


ACCOUNTS = [
    {"name": "tide", "kept_by": "system", "shell": False, "rights": ["write"], "groups": ["gaugers", "readers"]},
    {"name": "ebb", "kept_by": "system", "shell": True, "login": "key", "groups": ["readers"], "confined": False},
]
KEPT = {"name": "neap", "kept_by": "system", "shell": True, "login": "key", "home_owner": "root", "home_mode": "1750"}


def test_of_an_account_that_a_directory_keeps_the_page_makes_the_folder_alone(tmp_path: Path) -> None:
    kept = [*ACCOUNTS, {"name": "far", "kept_by": "directory", "groups": ["gaugers"], "rights": ["write"]}]
    for system, made in (("linux", "useradd"), ("windows", "New-LocalUser")):
        parts = accounts_page(system, tmp_path, kept)
        assert parts["Set the accounts up"].steps[0].startswith("far: made in the directory, not here")
        about = [each for each in parts["Set the accounts up"].commands if re.search(r"\bfar\b", each)]
        assert not [each for each in about if made in each]
        assert any(f"{tmp_path}/far" in each for each in about[1:])
        assert not [each for each in parts["Take an account back"].commands if "far" in each]
        assert "gaugers" in " ".join(parts["Set the accounts up"].commands)


@pytest.mark.kernel
@pytest.mark.skipif(
    os.name != "posix" or os.geteuid() != 0 or not shutil.which("useradd"), reason="needs root, and useradd"
)
def test_the_printed_commands_make_the_accounts_with_groups_and_folders_and_take_them_back(tmp_path: Path) -> None:
    parts = accounts_page("linux", tmp_path / "homes", [*ACCOUNTS, KEPT])
    made, undone = (parts[each].commands for each in ("Set the accounts up", "Take an account back"))
    typed = "printf 'Neap-61\\nNeap-61\\n' | {} 2>/dev/null"
    script = "\n".join(
        ["set -e", f"mount -t tmpfs none {tmp_path}", f"cd {tmp_path}; mkdir up work homes before; cp -a /etc/. before",
         f"mount -t overlay none /etc -o lowerdir=/etc,upperdir={tmp_path}/up,workdir={tmp_path}/work",
         *(typed.format(each) if each.startswith("passwd") else each for each in made),
         "id -nG tide; id -nG ebb; getent passwd tide ebb | cut -d: -f7",
         f"stat -c '%n %U %G %a' {tmp_path}/homes/*  {tmp_path}/homes/tide/*",
         *undone, "for each in passwd group; do diff before/$each /etc/$each; done; echo taken back"]
    )  # fmt: skip
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", script], capture_output=True, text=True, timeout=60, check=False
    )
    homes = f"{tmp_path}/homes"
    assert done.stdout.splitlines() == [
        "tide gaugers readers", "ebb readers", "/usr/sbin/nologin", "/bin/sh", f"{homes}/ebb ebb root 750",
        f"{homes}/neap root neap 1750", f"{homes}/tide root root 755", f"{homes}/tide/in tide root 750", "taken back",
    ], done.stderr  # fmt: skip


OURS = {
    "visit": visit.app, "check": check.app, "certificate": certificate.app, "diagnose": diagnose.app, "lamp": lamp.app,
}  # fmt: skip


def commands_of(sheet: Sheet) -> list[str]:
    return [each for part in sheet.parts for each in part.commands]


@pytest.mark.sweep
@pytest.mark.parametrize("system", ["linux", "windows"])
@settings(max_examples=50, database=None, deadline=None, suppress_health_check=list(HealthCheck))
@given(found=rich_sites())
def test_no_page_contradicts_the_site_or_itself_and_each_command_of_ours_is_one(system: str, found: Any) -> None:
    found["server"]["system"] = system
    site = parse_site("pages", json.dumps(found)).site
    sheets = sheets_of(judge(site), "pages.site.yaml", {}, {})
    for sheet in sheets.pages:
        text = "\n".join([sheet.about, *(line for part in sheet.parts for line in (*part.lines, *part.steps))])
        for left in re.findall(r"Forward (.+) leads to .+: not part of this work", text):
            grid = next(part.grid for part in sheet.parts if part.title == "Forwards" and part.grid)
            named = {i for i, row in enumerate(grid.rows) if left in (row[0], row[2])}
            assert named & set(grid.stay)
        if not any(each.passive for each in site.services):
            assert "port range" not in text
        if system == "windows" and sheet.name == site.server.name:
            assert [each for each in commands_of(sheet) if each.split()[0] in ("ss", "sysctl", "nft", "sh")] == []
        for command in commands_of(sheet):
            if command.startswith("eager-lantern "):
                _, name, *words = shlex.split(command)
                typer.main.get_command(OURS[name]).make_context(name, words)
    tests = next(sheet for sheet in sheets.pages if sheet.kind == "tests")
    for part in tests.parts:
        if part.title.startswith("2.") and part.grid:
            assert {row[1] for row in part.grid.rows} == {site.server.network} != {"internet"}
