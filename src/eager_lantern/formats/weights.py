"""What ships about faults, tests and cures: how common each is, what it costs, and how it is put in words."""

from msgspec import Struct, convert
from msgspec.structs import replace

from ..core.diagnosis.diagnosis import Knowledge
from ..core.diagnosis.fault import FaultKind, Part, Sentences, Wording
from ..core.diagnosis.next_test import TestKind
from ..core.diagnosis.words import Meaning
from ..core.findings.finding import Owner
from ..core.mending.plan import Costs
from .shipped import shipped_text
from .site.yaml_tree import YamlTree


class _Cost(Struct, forbid_unknown_fields=True):
    cost: float
    why: str


class _CostsFile(Struct, forbid_unknown_fields=True):
    owners: dict[Owner, _Cost]
    gives_up: dict[str, _Cost]


def shipped_costs() -> Costs:
    """The costs of ``data/mending.yaml``."""
    found = convert(YamlTree("mending.yaml", shipped_text("mending.yaml")).data, _CostsFile, strict=False)
    owners = {name: each.cost for name, each in found.owners.items()}
    return Costs(owners, {key: each.cost for key, each in found.gives_up.items()})


class _Kind(Struct, forbid_unknown_fields=True):
    weight: float
    why: str
    message: str = ""
    look: str = ""
    cure: str = ""
    without_file: dict[Part, str] = {}


class _FaultsFile(Struct, forbid_unknown_fields=True):
    faults: dict[FaultKind, _Kind]
    tests: dict[TestKind, _Cost]
    without_file: dict[str, str]


def shipped_knowledge() -> Knowledge:
    """The weights, costs and sentences of ``data/faults.yaml``, and the words of ``data/replies.yaml``."""
    found = _faults_file()
    weights = {kind: each.weight for kind, each in found.faults.items()}
    sentences = {
        kind: Sentences(each.message, each.look, each.cure, each.without_file) for kind, each in found.faults.items()
    }
    replies = convert(YamlTree("replies.yaml", shipped_text("replies.yaml")).data, tuple[Meaning, ...])
    costs = {kind: each.cost for kind, each in found.tests.items()}
    return Knowledge(weights, costs, Wording(sentences), replies)


def knowledge_without_file(data_ports: str = "") -> Knowledge:
    """The same, with words for the addresses and ports of the plain site, which are nobody's; ``data_ports`` are some
    that are known of the range."""
    known, words = shipped_knowledge(), _faults_file().without_file
    if data_ports:
        words = {each: f"{text} (with {data_ports})" if text == DATA_RANGE else text for each, text in words.items()}
    return replace(known, wording=Wording(known.wording.sentences, words))


DATA_RANGE = "the data range"


def _faults_file() -> _FaultsFile:
    return convert(YamlTree("faults.yaml", shipped_text("faults.yaml")).data, _FaultsFile, strict=False)
