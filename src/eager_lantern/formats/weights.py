"""What ships about likelihoods and costs: how common faults are, what tests and changes cost."""

from typing import cast

from ..core.diagnosis.diagnosis import Knowledge
from ..core.diagnosis.fault import FaultKind
from ..core.diagnosis.next_test import TestKind
from ..core.mending.mend import Costs, Owner
from .shipped import shipped_text
from .site.yaml_tree import YamlTree

_COSTS = "mending.yaml"


def shipped_costs() -> Costs:
    """The costs of ``data/mending.yaml``."""
    tree = cast(dict[str, dict[str, dict[str, float]]], YamlTree(_COSTS, shipped_text(_COSTS)).data)
    owners = {cast(Owner, name): float(each["cost"]) for name, each in tree["owners"].items()}
    return Costs(owners, {key: float(each["cost"]) for key, each in tree["gives_up"].items()})


_FAULTS = "faults.yaml"


def shipped_knowledge() -> Knowledge:
    """The weights and costs of ``data/faults.yaml``."""
    tree = cast(dict[str, dict[str, dict[str, float]]], YamlTree(_FAULTS, shipped_text(_FAULTS)).data)
    weights = {cast(FaultKind, kind): float(each["weight"]) for kind, each in tree["faults"].items()}
    costs = {cast(TestKind, kind): float(each["cost"]) for kind, each in tree["tests"].items()}
    return Knowledge(weights, costs)
