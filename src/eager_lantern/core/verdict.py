"""Everything that `check` knows of a site: forecasts, ledgers, findings, and the verdict."""

from typing import Literal

from msgspec import Struct

from .finding import Finding
from .findings import findings
from .forecast import Forecast
from .ledger import Ledger, study
from .session import foresee
from .site import Site
from .topology import Topology


class Verdict(Struct, frozen=True):
    """What is predicted of a site."""

    site: Site
    forecasts: tuple[Forecast, ...]
    ledgers: tuple[Ledger, ...]
    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> Literal["kept", "broken", "unknown"]:
        """Broken when any promise is; else unknown when any cannot be told."""
        kept = {each.kept for each in self.forecasts}
        return "broken" if False in kept else "unknown" if None in kept else "kept"


def judge(site: Site) -> Verdict:
    """Predict every promise of a consistent site and find what is wrong in it."""
    topology = Topology(site)
    forecasts = tuple(foresee(topology, promise, ("promises", i)) for i, promise in enumerate(site.promises))
    studies = tuple(study(topology, each) for each in forecasts)
    ledgers = tuple(ledger for each in studies if (ledger := each.ledger))
    return Verdict(site, forecasts, ledgers, findings(topology, studies))
