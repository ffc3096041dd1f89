"""What ships of how common faults are, and of what tests cost."""

from typing import cast

from ..core.diagnosis.diagnosis import Knowledge
from ..core.diagnosis.next_test import TestKind
from ..core.faults.fault import FaultKind
from .package_data import shipped_text
from .yaml_tree import YamlTree

NAME = "faults.yaml"


def shipped_knowledge() -> Knowledge:
    """The weights and costs of ``data/faults.yaml``."""
    tree = cast(dict[str, dict[str, dict[str, float]]], YamlTree(NAME, shipped_text(NAME)).data)
    weights = {cast(FaultKind, kind): float(each["weight"]) for kind, each in tree["faults"].items()}
    costs = {cast(TestKind, kind): float(each["cost"]) for kind, each in tree["tests"].items()}
    return Knowledge(weights, costs)
