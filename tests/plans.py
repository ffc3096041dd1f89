"""Visit plans of tests, by the names of the values that a test changes."""

from dataclasses import fields, replace
from typing import Any

from eager_lantern.formats.shipped import shipped_advice
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
