"""A first site file, written from the answers to :mod:`eager_lantern.core.interview.questions`."""

import json
import re
from functools import cache

from jinja2 import Environment, StrictUndefined, Template

from ..core.interview.questions import (
    PROTOCOLS,
    Answers,
    has_network,
    is_administered,
    is_administered_inside,
    is_open,
    is_translated,
    outside_of,
)
from ..core.model.site import ETHERNET_BYTES, default_own_ports
from ..core.values.addresses import address_or_none
from ..core.values.ports import PortSet
from .package_data import shipped_text

_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._/-]*[A-Za-z0-9]|[A-Za-z]|/[A-Za-z0-9._/-]*")
_WORDS = re.compile(r"(true|false|null|[-+.0-9eExo_]+)", re.IGNORECASE)


def quoted_text(text: str) -> str:
    """A text as YAML: in quotes where it could be read as something else."""
    plain = _PLAIN.fullmatch(text) and not _WORDS.fullmatch(text)
    return text if plain else json.dumps(text, ensure_ascii=False)


def new_site(answers: Answers) -> str:
    """The text of a site file, with comments for whoever goes on editing it."""
    return _template().render(**_derived(answers)) + "\n"


@cache
def _template() -> Template:
    environment = Environment(trim_blocks=True, lstrip_blocks=True, undefined=StrictUndefined, autoescape=False)
    environment.filters["text"] = quoted_text
    return environment.from_string(shipped_text("new.site.yaml.j2"))


def _derived(answers: Answers) -> dict[str, object]:
    """The answers, and all that follows from them."""
    protocol, tls, _ = PROTOCOLS[answers["clients_can"]]
    ftp, opened = protocol == "ftp", is_open(answers)
    typed = answers.get("typed", "")
    seen_at = outside_of(answers) if is_translated(answers) else answers["address"]
    is_name = opened and address_or_none(typed) is None
    single = answers.get("ranges") == "no"
    return {
        **dict.fromkeys(("ports", "subnet", "outside", "admin_port", "admin_from"), ""),
        "outside_port": answers["control_port"],
        "ranges": "yes",
        "share": "all",
        "mtu": str(ETHERNET_BYTES),
        "phones": "no",
        "inside": "yes" if has_network(answers) else "no",
        **answers,
        "typed": typed or seen_at,
        "reaches": _reached(typed or seen_at, answers),
        "outside": outside_of(answers) if "outside" in answers else "",
        "outside_unknown": answers.get("outside") == "unknown",
        "protocol": protocol,
        "own_ports": str(default_own_ports(answers["system"])),
        "tls": tls,
        "mode": ", mode: passive" if ftp else "",
        "has_network": has_network(answers),
        "is_open": opened,
        "is_name": is_name,
        "seen_at": seen_at,
        "data_entries": _entries(answers.get("ports", ""), single),
        "announces_own": not is_translated(answers) or not opened,
        "announce": typed if is_name and answers.get("outside_lease") == "dynamic" else seen_at,
        "inside_only": "" if opened else f", from: {answers.get('subnet')}",
        "administered": is_administered(answers),
        "admin_inside": is_administered_inside(answers),
        "admin_outside": is_administered(answers) and not is_administered_inside(answers),
    }


def _reached(typed: str, answers: Answers) -> str:
    """What clients type, with its port where that is another than the service's own."""
    port = answers.get("outside_port", answers["control_port"])
    if port == answers["control_port"]:
        return typed
    return f"[{typed}]:{port}" if ":" in typed else f"{typed}:{port}"


def _entries(ports: str, single: bool) -> list[str]:
    """The data range as entries of a router's page."""
    if not ports:
        return []
    return [str(each) for each in PortSet.parse(ports)] if single else [ports]
