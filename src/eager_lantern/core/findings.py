"""Findings: what is wrong or unwise in a site, each cause once, with its place and its cure.

A layer that does not pass what it ought to is a shortfall. Shortfalls are traced to causes
(:mod:`.causes`), equal causes are joined, and each becomes one finding that breaks a promise.
What is unwise whatever is promised comes from the ``lint_`` modules.
"""

from collections.abc import Iterable

from msgspec.structs import replace

from .cause import Cause
from .causes import causes_of
from .finding import Finding, Severity
from .ledger import Study
from .lint_accounts import account_findings
from .lint_devices import device_findings
from .lint_exposure import exposure_findings
from .lint_ranges import range_findings
from .lint_rules import rule_findings
from .place import Place
from .topology import Topology

_RANK: dict[Severity, int] = {"breaks": 0, "risks": 1, "note": 2}


def findings(topology: Topology, studies: tuple[Study, ...]) -> tuple[Finding, ...]:
    """All findings of a site: what breaks promises first, then what is unwise, in the order of
    the file's sections. A place that is blamed for a broken promise is not blamed again."""
    doubtful = [each for each in studies if each.forecast.kept is not True]
    causes = _joined(cause for study in doubtful for cause in causes_of(topology, study))
    found = [Finding(each.kind, each.severity, each.message, each.advice, each.place) for each in causes]
    found += (each for each in _unwise(topology, studies) if not _blamed(each, found))
    return tuple(sorted(found, key=lambda each: _RANK[each.severity]))


def _unwise(topology: Topology, studies: tuple[Study, ...]) -> list[Finding]:
    return [
        *device_findings(topology),
        *rule_findings(topology),
        *range_findings(topology),
        *exposure_findings(topology, studies),
        *account_findings(topology),
    ]


def _blamed(finding: Finding, found: Iterable[Finding]) -> bool:
    """Whether the same place, or the rule or forward that holds it, is blamed already."""
    return any(
        (each.kind == finding.kind and each.place == finding.place)
        or (finding.kind in _ABOUT_ONE_LINE and each.place[: len(finding.place)] == finding.place)
        for each in found
    )


_ABOUT_ONE_LINE = {"rule-shadowed", "rule-redundant", "port-taken-twice"}


def _joined(causes: Iterable[Cause]) -> list[Cause]:
    """One cause for each kind and place, with all the ports that it stops."""
    joined: dict[tuple[str, Place], Cause] = {}
    for cause in causes:
        key = (cause.kind, cause.place)
        first = joined.get(key)
        ports = cause.ports | first.ports if first else cause.ports
        joined[key] = replace(first or cause, ports=ports)
    return list(joined.values())
