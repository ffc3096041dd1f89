"""The causes of a group as they are told: a fault, several at once, or what the site file itself has wrong."""

from collections.abc import Iterator

from msgspec import Struct

from ..faults.fault import Fault, FaultKind
from ..findings.finding import Finding
from ..findings.finding_kinds import FindingKind
from ..values.site_path import SitePath
from .diagnosis import Group


class NamedCause(Struct, frozen=True):
    """One cause, with its cure; ``beside`` are faults that have to be there as well."""

    kind: FaultKind | FindingKind
    at: str
    probability: float
    message: str
    look: str
    cure: str
    place: SitePath
    beside: tuple[Fault, ...] = ()

    @property
    def messages(self) -> tuple[str, ...]:
        """What is wrong, and what else is."""
        return (self.message, *(each.message for each in self.beside))


_NOT_PROMISED = NamedCause(
    "not-promised",
    "the site file",
    1.0,
    "the site file promises nothing of this, and as it has things it cannot work",
    "eager-lantern check: is there a promise for it?",
    "add the promise to the site file; check then names what keeps it from working",
    ("promises",),
)


def causes_of(group: Group) -> tuple[NamedCause, ...]:
    """Every cause of a group, the likeliest first."""
    return tuple(_causes(group))


def _causes(group: Group) -> Iterator[NamedCause]:
    for each in group.causes:
        if each.hypothesis.faults:
            one, *beside = each.hypothesis.faults
            said = one.message, one.look, one.cure
            yield NamedCause(one.kind, one.at, each.probability, *said, one.place, tuple(beside))
        elif not group.findings:
            yield _NOT_PROMISED
        else:
            yield from (_described(finding, each.probability / len(group.findings)) for finding in group.findings)


def _described(finding: Finding, probability: float) -> NamedCause:
    """What the site file has wrong, where the real site is as it says."""
    return NamedCause(
        finding.kind,
        "the site file",
        probability,
        finding.message,
        f"eager-lantern explain {finding.kind}",
        finding.advice,
        finding.place,
    )
