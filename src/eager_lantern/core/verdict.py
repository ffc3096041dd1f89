"""Everything that `check` knows of a site: forecasts, ledgers, findings, and the verdict."""

from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from .findings.all import findings, studied
from .findings.behind import least_cures
from .findings.finding import Finding
from .model.site import Site
from .predict.exposure import Opening, openings
from .predict.forecast import Forecast
from .predict.ledger import Ledger

if TYPE_CHECKING:
    from .predict.kinds import ClientKind


class Verdict(Struct, frozen=True):
    """What is predicted of a site. ``ways_in`` are those that have to stay open whatever is promised; ``openings``
    what the internet reaches; ``behind`` are findings that show once the others are cured; ``kinds`` the kinds of
    client that there are, where the site describes none. ``belied`` states whether something that a promise rests on
    was seen to be other than the file states."""

    site: Site
    forecasts: tuple[Forecast, ...]
    ways_in: tuple[Forecast, ...]
    ledgers: tuple[Ledger, ...]
    findings: tuple[Finding, ...]
    openings: tuple[Opening, ...]
    behind: tuple[Finding, ...] = ()
    kinds: "tuple[ClientKind, ...]" = ()
    belied: bool = False

    @property
    def verdict(self) -> Literal["kept", "broken", "unknown"]:
        """Broken when any promise is, or a way in that has to stay open, or where what was seen belies the file; else
        unknown when any is unknown, or when nothing is promised."""
        kept = {each.kept for each in (*self.forecasts, *self.ways_in)}
        return "broken" if False in kept or self.belied else "unknown" if None in kept or not self.forecasts else "kept"


def judge(site: Site) -> Verdict:
    """Predict every promise of a consistent site and find what is wrong in it."""
    known = studied(site)
    ledgers = tuple(ledger for each in known.promises if (ledger := each.ledger))
    found, outlook = least_cures(known, findings(known))
    return Verdict(
        site,
        tuple(each.forecast for each in known.promises),
        tuple(each.forecast for each in known.ways_in),
        ledgers,
        found,
        openings(known.topology, known.forecasts),
        outlook.findings,
        () if site.clients else _kinds(site),
    )


def _kinds(site: Site) -> "tuple[ClientKind, ...]":
    from .predict.kinds import kinds_of_client  # few sites describe no clients

    return kinds_of_client(site)
