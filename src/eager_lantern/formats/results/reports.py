"""Results of checks in the formats that other programs read: SARIF 2.1.0 and JUnit XML.

Both are made from the results of :func:`.check.check_result`, one for each site, and from
the problems of files that could not be read.
"""

from collections.abc import Iterable, Mapping
from urllib.parse import quote
from xml.etree import ElementTree

from ... import __version__
from ...core.changes.states import Comparison
from ...core.predict.forecast import because
from ..reading import BadInput
from ..shipped import Page
from .base import LineOf, Result

SARIF_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
BAD_INPUT = "bad-input"
_LEVELS = {"breaks": "error", "risks": "warning", "note": "note"}


def sarif(results: Iterable[Result], unread: Iterable[BadInput], pages: Mapping[str, Page]) -> Result:
    """A SARIF log (OASIS, version 2.1.0) with one run."""
    findings = [_sarif_finding(each) for result in results for each in (*result["findings"], *result["behind"])]
    broken = [_sarif_problem(error.file, each.line, each.message) for error in unread for each in error.problems]
    rules = [_sarif_rule(kind, page) for kind, page in sorted(pages.items())]
    rules.append({"id": BAD_INPUT, "shortDescription": {"text": "The site file cannot be used."}})
    return _sarif_log(rules, findings + broken)


def _sarif_log(rules: list[Result], results: list[Result]) -> Result:
    driver = {"name": "Eager Lantern", "version": __version__, "rules": rules}
    return {
        "$schema": SARIF_SCHEMA,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "results": results}],
    }


def _sarif_rule(kind: str, page: Page) -> Result:
    text = f"How it shows: {page['shows']} How to cure it: {page['cure']}"
    return {"id": kind, "shortDescription": {"text": page["means"]}, "help": {"text": text}}


def _sarif_finding(finding: Result) -> Result:
    where, text = finding["where"], f"{finding['message']}. To do: {finding['advice']}."
    return _sarif_result(finding["kind"], _LEVELS[finding["severity"]], text, where["file"], where["line"])


def _sarif_problem(file: str, line: int, message: str) -> Result:
    return _sarif_result(BAD_INPUT, "error", message, file, line)


def _sarif_result(rule: str, level: str, text: str, file: str, line: int | None) -> Result:
    return {"ruleId": rule, "level": level, "message": {"text": text}, "locations": [_sarif_location(file, line)]}


def _sarif_location(file: str, line: int | None) -> Result:
    place: Result = {"artifactLocation": {"uri": quote(file.encode(errors="surrogateescape"))}}
    if line:
        place["region"] = {"startLine": line}
    return {"physicalLocation": place}


def compare_sarif(found: Comparison, file: str, line: LineOf) -> Result:
    """A comparison as a SARIF log: what is lost, and what is open that no promise needs."""
    results = []
    for rule, turned in (("promise-lost", found.promises), ("way-in-lost", found.ways_in)):
        for each in turned:
            if each.turn == "lost" or (rule == "way-in-lost" and each.turn == "dropped"):
                why = because(each.after) if each.after else "the file no longer names it"
                text = f"{each.promise.client} → {each.promise.service}: {why}"
                results.append(_sarif_result(rule, "error", text, file, line(each.after.place) if each.after else None))
    for more in found.unasked:
        text = f"{more.sources} on {more.network} reach {more.host}, {more.protocol} {more.ports}: no promise needs it"
        results.append(_sarif_result("reached-unasked", "warning", text, file, None))
    for more in found.unknown:
        who = f"{more.sources} on {more.network} perhaps reach {more.host}, {more.protocol} {more.ports}"
        results.append(_sarif_result("reached-perhaps", "warning", f"{who}: what a rule does is not known", file, None))
    return _sarif_log([{"id": key, "shortDescription": {"text": text}} for key, text in _COMPARED.items()], results)


_COMPARED = {
    "promise-lost": "A promise was kept before and is broken now.",
    "way-in-lost": "A way in that had to stay open is shut now.",
    "reached-perhaps": "Somebody perhaps reaches what was not reached before: what a rule does is not known.",
    "reached-unasked": "Somebody reaches what was not reached before and no promise needs.",
}


def junit(results: Iterable[tuple[str, Result]], unread: Iterable[BadInput]) -> str:
    """JUnit XML: a suite for each site, a case for each promise."""
    root = ElementTree.Element("testsuites")
    for file, result in results:
        _suite(root, file, [_case(file, each) for each in (*result["promises"], *result["ways_in"])])
    for error in unread:
        case = ElementTree.Element("testcase", name="the site file can be read", classname=_xml_text(error.file))
        ElementTree.SubElement(case, "error", message=_xml_text(str(error).splitlines()[0])).text = _xml_text(
            str(error)
        )
        _suite(root, error.file, [case])
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode") + "\n"


def _suite(root: ElementTree.Element, name: str, cases: list[ElementTree.Element]) -> None:
    suite = ElementTree.SubElement(root, "testsuite", name=_xml_text(name), tests=str(len(cases)))
    for count, tag in (("failures", "failure"), ("errors", "error"), ("skipped", "skipped")):
        suite.set(count, str(sum(case.find(tag) is not None for case in cases)))
    suite.extend(cases)


def _case(file: str, promise: Result) -> ElementTree.Element:
    mode = promise["mode"] or promise["holds"]
    name = f"{promise['client']} → {promise['service']}, {mode}"
    case = ElementTree.Element("testcase", name=_xml_text(name), classname=_xml_text(file))
    if promise["kept"] is False:
        text = _xml_text(promise["because"])
        ElementTree.SubElement(case, "failure", message=text, type="broken").text = text
    elif promise["kept"] is None:
        ElementTree.SubElement(case, "skipped", message=_xml_text(f"unknown: {promise['because']}"))
    return case


def _xml_text(text: str) -> str:
    """Text without the characters that XML 1.0 has no place for."""
    return "".join(each if each.isprintable() or each in "\n\t" else "?" for each in text)
