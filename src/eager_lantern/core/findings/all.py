"""Findings: what is wrong or unwise in a site, each cause once, with its place and its cure.

A layer that does not pass what it ought to is a shortfall. Shortfalls are traced to causes
(:mod:`.session`), equal causes are joined, and each becomes one finding that breaks a promise.
What is unwise whatever is promised comes from the ``lint_`` modules.

A cure that is a change of the site is tried on the model before it is printed: what it cures has to be
gone, and no promise may be broken by it that holds without it.
"""

from collections.abc import Collection, Iterable, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..model.change import Change, changed
from ..model.consistency import problems
from ..model.site import Promise, Site
from ..network.topology import Topology
from ..predict.alike import Studying, studies
from ..predict.forecast import ClientPosition, Forecast, because
from ..predict.ledger import Study, measure
from ..predict.session import predict_from
from ..values.text_value import SitePath
from .cause import Cause, words_of
from .finding import Finding, FindingKind, Severity
from .gateways import device_findings
from .rules import rule_findings
from .server import account_findings, exposure_findings, range_findings
from .session import causes_of

_RANK: dict[Severity, int] = {"breaks": 0, "risks": 1, "note": 2}


MOST_TRIED, MOST_LINES = 12, 1000
"""Cures that are tried, and rules and forwards of a site in which any is; each costs nearly as much as the check."""


class Studied(Struct, frozen=True):
    """A site with every promise of it predicted and measured, and every way in that has to stay open."""

    topology: Topology
    promises: tuple[Study, ...]
    ways_in: tuple[Study, ...]

    @property
    def forecasts(self) -> tuple[Forecast, ...]:
        """Of the promises, then of the ways in."""
        return tuple(each.forecast for each in (*self.promises, *self.ways_in))


def studied(site: Site) -> Studied:
    """Predict and measure everything that a consistent site promises."""
    topology = Topology(site)

    def known(promise: Promise, place: SitePath, position: ClientPosition) -> Study:
        return measure(topology, _foretold(topology, promise, place, position))

    return _study_all(topology, known)


def predicted(site: Site) -> Studied:
    """The same, with only those measured that are not kept: enough to see what a change has brought."""
    topology = Topology(site)

    def known(promise: Promise, place: SitePath, position: ClientPosition) -> Study:
        forecast = _foretold(topology, promise, place, position)
        return Study(forecast, None, (), None, ()) if forecast.kept else measure(topology, forecast)

    return _study_all(topology, known)


def _study_all(topology: Topology, study: Studying) -> Studied:
    """Promises and ways in, each studied; a fault of the program on the way names which it was."""

    def noted(promise: Promise, place: SitePath, position: ClientPosition) -> Study:
        try:
            return study(promise, place, position)
        except Exception as error:
            error.add_note(f"{promise.client} → {promise.service}, {promise.mode or promise.holds}")
            raise

    site = topology.site
    wanted = [(each, ("promises", i)) for i, each in enumerate(site.promises)]
    return Studied(topology, studies(topology, wanted, noted), studies(topology, list(_kept_open(site)), noted))


def _foretold(topology: Topology, promise: Promise, place: SitePath, position: ClientPosition) -> Forecast:
    return replace(predict_from(topology, promise, position), place=place)


def _kept_open(site: Site) -> Iterable[tuple[Promise, SitePath]]:
    """The ways in that have to stay open (``keep_open_for``), each as a promise, where no promise states it already."""
    promised = {(each.client, each.service) for each in site.promises if each.holds == "works"}
    for i, service in enumerate(site.services):
        for j, client in enumerate(service.keep_open_for):
            if (client, service.name) not in promised:
                yield Promise(client=client, service=service.name), ("services", i, "keep_open_for", j)


def findings(known: Studied) -> tuple[Finding, ...]:
    """All findings of a site: what breaks promises first, then what is unwise, in the order of
    the file's sections. A place that is blamed for a broken promise is not blamed again."""
    found = untried(known)
    opened = _exposed_places(found)
    reported, tried = [], 0
    most = MOST_TRIED if lines_of(known.topology.site) <= MOST_LINES else 0
    for each in found:
        if each.cures and tried < most:
            tried += 1
            reported.append(_with_tested_cure(known, opened, each))
        else:
            reported.append(replace(each, cures=()))
    both = zip(reported, found, strict=True)
    return tuple(sorted((_by_itself(each, before, reported) for each, before in both), key=lambda e: _RANK[e.severity]))


def _by_itself(finding: Finding, untested: Finding, reported: Sequence[Finding]) -> Finding:
    """The finding, or where the cure of another is all that its promise needs, what is unwise about its own place."""
    cure = finding.cures[0] if finding.severity == "breaks" and finding.cures else None
    if cure is None or cure == untested.cures[0] or finding.place == cure.place:
        return finding
    root = any(each.cures == finding.cures and each.place == cure.place for each in reported)
    return replace(untested, severity="risks", cures=untested.cures[:1]) if root else finding


_OPENS: set[FindingKind] = {"exposed-inside-service", "open-beyond-need", "filter-off"}


def _exposed_places(found: Iterable[Finding]) -> set[tuple[str, SitePath]]:
    """What is open that ought not to be."""
    return {(each.kind, each.place) for each in found if each.kind in _OPENS}


def exposed_places(known: Studied) -> set[tuple[str, SitePath]]:
    """What is open of a site that ought not to be, by the kind of the finding and its place."""
    return _exposed_places(untried(known))


def lines_of(site: Site) -> int:
    """How many rules and forwards a site has."""
    tables = [table for each in site.gateways for table in (each.filter.inward, each.filter.outward)]
    hosts = [site.server.filter, *(each.filter for each in site.clients)]
    tables += [table for each in hosts for table in (each.incoming, each.outgoing)]
    return sum(len(each.rules) for each in tables) + sum(len(each.forwards) for each in site.gateways)


def untried(known: Studied) -> list[Finding]:
    """All findings, with cures that are not tried yet."""
    found = of_promises(known)
    found += _besides(found, _unwise(known))
    return sorted(found, key=lambda each: _RANK[each.severity])


def of_promises(known: Studied) -> list[Finding]:
    """What keeps promises from being kept and ways in from being open, with cures that are not tried yet."""
    doubtful = [each for each in known.promises if each.forecast.kept is not True]
    causes = _merge_causes(cause for study in doubtful for cause in causes_of(known.topology, study))
    return [*map(_finding_of, causes), *_locked_out(known)]


def _finding_of(cause: Cause) -> Finding:
    return Finding(cause.kind, cause.severity, cause.message, cause.advice, cause.place, cause.cures)


def _locked_out(known: Studied) -> Iterable[Finding]:
    """Ways in that have to stay open and do not, each at what shuts it."""
    for each in known.ways_in:
        forecast = each.forecast
        if forecast.kept is True:
            continue
        severity: Severity = "breaks" if forecast.kept is False else "risks"
        name, service = forecast.position.name, forecast.service
        who = f"{name} must always reach {service.name} (port {service.control_port})"
        causes = [*map(_finding_of, _merge_causes(causes_of(known.topology, each)))]
        plain = Finding("admin-locked-out", severity, because(forecast), f"let {name} in", forecast.place)
        for cause in causes or [plain]:
            yield replace(cause, kind="admin-locked-out", severity=severity, message=f"{who}: {cause.message}")


def _with_tested_cure(known: Studied, opened: set[tuple[str, SitePath]], finding: Finding) -> Finding:
    """The finding with that of its cures that helps most, breaks no promise and opens nothing more than is open now,
    or a word on the harm."""
    harm: list[Forecast] = []
    good: list[tuple[int, Change]] = []
    for cure in finding.cures:
        site = changed(known.topology.site, cure)
        if problems(site):
            continue
        after = predicted(site)
        broken = _worse(known, after)
        left = untried(after)
        stays = any((each.kind, each.place) == (finding.kind, finding.place) for each in left)
        if not broken and not stays and _exposed_places(left) <= opened:
            good.append((sum(each.kept is not True for each in after.forecasts), cure))
            if not good[-1][0]:
                break
        harm = harm or broken
    if good:
        cure = min(good, key=lambda each: each[0])[1]
        return replace(finding, cures=(cure,), advice=finding.advice if cure == finding.cures[0] else words_of(cure))
    return replace(finding, cures=(), advice=f"{finding.advice}{_of_harm(harm)}")


def _worse(known: Studied, after: Studied) -> list[Forecast]:
    """The promises that a change breaks, or makes doubtful."""
    return [
        before
        for before, then in zip(known.forecasts, after.forecasts, strict=False)
        if then.kept is not True and before.kept is not then.kept and before.kept is not False
    ]


def breaks_nothing(known: Studied, after: Studied) -> bool:
    """Whether a change breaks no promise, and makes none doubtful."""
    return not _worse(known, after)


def opens_nothing(known: Studied, open_now: Collection[tuple[str, SitePath]], after: Studied) -> bool:
    """Whether a change opens nothing of what ought not to be open, beyond what is open now (:func:`exposed_places`).
    What entries let in that the server no longer hands out was open before."""
    exposed = _exposed_places(untried(after)).difference(open_now)
    if _hands_out_less(known.topology.site, after.topology.site):
        exposed = {each for each in exposed if each[0] != "open-beyond-need"}
    return not exposed


def _hands_out_less(before: Site, after: Site) -> bool:
    """Whether each range of the server is a part of what it was."""
    both = zip(before.services, after.services, strict=True)
    return all(now.passive is None or (old.passive and now.passive.ports <= old.passive.ports) for old, now in both)


def _of_harm(broken: list[Forecast]) -> str:
    if not broken:
        return ""
    listed = [f"{each.promise.client} → {each.promise.service}" for each in broken]
    more = f" and {len(listed) - 2} more" if len(listed) > 2 else ""
    holds = "that may hold" if any(each.kept is None for each in broken) else "that hold" + "s" * (len(listed) == 1)
    promises = f"{len(listed)} promise{'s' * (len(listed) > 1)} {holds} now"
    return f"; by itself that breaks {promises} ({', '.join(listed[:2])}{more}): see to those first"


def _unwise(known: Studied) -> list[Finding]:
    topology, studies = known.topology, known.promises
    return [
        *device_findings(topology),
        *rule_findings(topology),
        *range_findings(topology),
        *exposure_findings(topology, studies),
        *account_findings(topology),
    ]


def _besides(found: list[Finding], more: Iterable[Finding]) -> Iterator[Finding]:
    """Those of which the same place, or the rule or forward that holds it, is not blamed already."""
    reported = {(each.kind, each.place) for each in found}
    blamed = {each.place[:length] for each in found for length in range(len(each.place) + 1)}
    for each in more:
        if (each.kind, each.place) not in reported and not (each.kind in _ABOUT_ONE_LINE and each.place in blamed):
            yield each
            reported.add((each.kind, each.place))
            blamed |= {each.place[:length] for length in range(len(each.place) + 1)}


_ABOUT_ONE_LINE: set[FindingKind] = {"rule-shadowed", "rule-redundant", "port-taken-twice"}


def _merge_causes(causes: Iterable[Cause]) -> list[Cause]:
    """One cause for each kind, place and what it is about, with all the ports that it stops."""
    joined: dict[tuple[str, SitePath, str], Cause] = {}
    for cause in causes:
        key = (cause.kind, cause.place, cause.about)
        first = joined.get(key)
        joined[key] = first.joined(cause) if first else cause
    return list(joined.values())
