"""Visit plans of tests, by the names of the values that a test changes, and plans of sweeps by phone."""

from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.phone import PhonePlan, phone_plan
from eager_lantern.core.predict.endpoints import position_of
from eager_lantern.core.values.addresses import Address
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.shipped import browser_ports, shipped_advice
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.live.common.secret import Secret
from eager_lantern.live.common.visit_plan import Credentials, Target, VisitPlan


def plan_of(name: str, port: int, user: str, password: str, **values: Any) -> VisitPlan:
    """A plan with these values, each in its part; ``security`` is how the session is protected."""
    return changed(
        VisitPlan(Target(name, port), Credentials(user, Secret(password)), advice=shipped_advice()), **values
    )


def changed(plan: VisitPlan, **values: Any) -> VisitPlan:
    """The same plan with other values."""
    if "security" in values:
        plan = replace(plan, security=replace(plan.security, mode=values.pop("security")))
    for name, value in values.items():
        if name in ("vantage", "reach"):
            plan = replace(plan, **{name: value})
            continue
        parts = [each.name for each in fields(plan) if hasattr(getattr(plan, each.name), name)]
        part = "data" if name == "mode" else parts[0]
        plan = replace(plan, **{part: replace(getattr(plan, part), **{name: value})})  # type: ignore[arg-type]
    return plan


def phone_plan_for(site: Path, lit: str, held: str = "", at: str = "") -> PhonePlan | None:
    """The plan of a sweep by phone of the first service of a site file, with these ports lit."""
    topology = Topology(read_site(site).site)
    address = Address.parse(at) if at else None
    service = topology.site.services[0]
    parts = (PortSet.parse(lit), PortSet.parse(held), browser_ports())
    return phone_plan(topology, service, position_of(topology, "internet"), address, *parts)
