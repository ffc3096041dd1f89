"""What ships of what changes cost."""

from typing import cast

from ..core.mending.costs import Costs, Owner
from .package_data import shipped_text
from .yaml_tree import YamlTree

NAME = "mending.yaml"


def shipped_costs() -> Costs:
    """The costs of ``data/mending.yaml``."""
    tree = cast(dict[str, dict[str, dict[str, float]]], YamlTree(NAME, shipped_text(NAME)).data)
    owners = {cast(Owner, name): float(each["cost"]) for name, each in tree["owners"].items()}
    return Costs(owners, {key: float(each["cost"]) for key, each in tree["gives_up"].items()})
