"""Results of checks in the formats that other programs read: SARIF 2.1.0 and JUnit XML.

Both are made from the results of :func:`.results.check.check_result`, one for each site, and from
the problems of files that could not be read.
"""

from collections.abc import Iterable, Mapping
from urllib.parse import quote
from xml.etree import ElementTree

from .. import __version__
from .package_data import Page
from .problem import BadInput
from .results.base import Result

SARIF_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
BAD_INPUT = "bad-input"
_LEVELS = {"breaks": "error", "risks": "warning", "note": "note"}


def sarif(results: Iterable[Result], unread: Iterable[BadInput], pages: Mapping[str, Page]) -> Result:
    """A SARIF log (OASIS, version 2.1.0) with one run."""
    findings = [_sarif_finding(each) for result in results for each in result["findings"]]
    broken = [_sarif_problem(error.file, each.line, each.message) for error in unread for each in error.problems]
    rules = [_sarif_rule(kind, page) for kind, page in sorted(pages.items())]
    rules.append({"id": BAD_INPUT, "shortDescription": {"text": "The site file cannot be used."}})
    driver = {"name": "Eager Lantern", "version": __version__, "rules": rules}
    return {
        "$schema": SARIF_SCHEMA,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "results": findings + broken}],
    }


def _sarif_rule(kind: str, page: Page) -> Result:
    text = f"How it shows: {page['shows']} How to cure it: {page['cure']}"
    return {"id": kind, "shortDescription": {"text": page["means"]}, "help": {"text": text}}


def _sarif_finding(finding: Result) -> Result:
    where = finding["where"]
    return {
        "ruleId": finding["kind"],
        "level": _LEVELS[finding["severity"]],
        "message": {"text": f"{finding['message']}. To do: {finding['advice']}."},
        "locations": [_sarif_location(where["file"], where["line"])],
    }


def _sarif_problem(file: str, line: int, message: str) -> Result:
    locations = [_sarif_location(file, line)]
    return {"ruleId": BAD_INPUT, "level": "error", "message": {"text": message}, "locations": locations}


def _sarif_location(file: str, line: int) -> Result:
    place: Result = {"artifactLocation": {"uri": quote(file.encode(errors="surrogateescape"))}}
    if line:
        place["region"] = {"startLine": line}
    return {"physicalLocation": place}


def junit(results: Iterable[tuple[str, Result]], unread: Iterable[BadInput]) -> str:
    """JUnit XML: a suite for each site, a case for each promise."""
    root = ElementTree.Element("testsuites")
    for file, result in results:
        _suite(root, file, [_case(file, each) for each in (*result["promises"], *result["ways_in"])])
    for error in unread:
        case = ElementTree.Element("testcase", name="the site file can be read", classname=_plain(error.file))
        ElementTree.SubElement(case, "error", message=_plain(str(error).splitlines()[0])).text = _plain(str(error))
        _suite(root, error.file, [case])
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode") + "\n"


def _suite(root: ElementTree.Element, name: str, cases: list[ElementTree.Element]) -> None:
    suite = ElementTree.SubElement(root, "testsuite", name=_plain(name), tests=str(len(cases)))
    for count, tag in (("failures", "failure"), ("errors", "error"), ("skipped", "skipped")):
        suite.set(count, str(sum(case.find(tag) is not None for case in cases)))
    suite.extend(cases)


def _case(file: str, promise: Result) -> ElementTree.Element:
    mode = promise["mode"] or promise["holds"]
    name = f"{promise['client']} → {promise['service']}, {mode}"
    case = ElementTree.Element("testcase", name=_plain(name), classname=_plain(file))
    if promise["kept"] is False:
        text = _plain(promise["because"])
        ElementTree.SubElement(case, "failure", message=text, type="broken").text = text
    elif promise["kept"] is None:
        ElementTree.SubElement(case, "skipped", message=_plain(f"cannot be told: {promise['because']}"))
    return case


def _plain(text: str) -> str:
    """Text without the characters that XML 1.0 has no place for."""
    return "".join(each if each.isprintable() or each in "\n\t" else "?" for each in text)
