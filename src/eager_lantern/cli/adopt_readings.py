"""What the files that ``adopt`` is given are, and what they tell of a device."""

from collections.abc import Mapping, Sequence

import typer

from ..core.adoption.told import Direction, Reading
from ..core.model.site import Client, Gateway, Server, Site
from ..files.problem import BadInput, InputProblem
from ..files.rule_table import is_rule_table, read_rule_table
from ..files.rulesets.gateway import Sides, items_of_nft, read_gateway
from ..files.rulesets.host import is_ruleset, read_ruleset
from ..files.rulesets.iptables import is_iptables, items_of_iptables, read_iptables
from ..files.server_settings import read_settings
from ..files.system_settings import is_sysctl, read_sysctl
from .arguments.site_names import the_transfer

KINDS = (
    "a kept survey, a table of forwards or rules (CSV), a host's rule set (nft -j list ruleset, iptables-save), "
    "settings of ProFTPD or Pure-FTPd, what sshd -T or sysctl prints, or a table of setting and value"
)


def readings_of(texts: Mapping[str, str], site: Site, device: str, direction: Direction, sides: Sides) -> list[Reading]:
    """What each file tells of a device, by what stands in it. Raises BadInput and BadParameter."""
    behind = next((each for each in site.gateways if each.name == device), None)
    found = [read_sysctl(file, text, behind is not None) for file, text in texts.items() if is_sysctl(text)]
    texts = {file: text for file, text in texts.items() if not is_sysctl(text)}
    if behind is not None and any(is_ruleset(each) or is_iptables(each) for each in texts.values()):
        return [*found, *_of_gateway(texts, site, behind, sides)]
    if sides.outside:
        raise typer.BadParameter("--outside: only the rule set of a gateway has an outside")
    if sides.inside and not any(is_ruleset(each) or is_iptables(each) for each in texts.values()):
        raise typer.BadParameter("--inside: only a rule set names interfaces; these files are none")
    return [*found, *_readings(texts, direction, sides.inside)]


def _of_gateway(texts: Mapping[str, str], site: Site, gateway: Gateway, sides: Sides) -> list[Reading]:
    """The rule set of a gateway, of which it has to be known which interface is on which side. Raises BadInput and
    BadParameter."""
    if not sides.outside or not sides.inside:
        raise typer.BadParameter(f"which interface is on which side of {gateway.name}? --outside NAME --inside NAME")
    older = {file: text for file, text in texts.items() if is_iptables(text)}
    newer = {file: text for file, text in texts.items() if file not in older}
    if (older and newer) or len(newer) > 1:
        raise typer.BadParameter("one rule set of a gateway at a time, and no table beside it")
    items = items_of_iptables(older) if older else items_of_nft(*next(iter(newer.items())))
    return list(read_gateway(", ".join(texts), items, site, gateway, sides))


def _readings(texts: Mapping[str, str], direction: Direction, interface: str) -> list[Reading]:
    """What each file is, by what stands in it; lists of iptables are of both families together. Raises BadInput."""
    tables = {file: text for file, text in texts.items() if is_iptables(text)}
    others = {file: text for file, text in texts.items() if file not in tables}
    found = [each for file, text in others.items() for each in _reading(file, text, direction, interface)]
    return [*found, *read_iptables(", ".join(tables), tables, direction, interface)] if tables else found


def _reading(file: str, text: str, direction: Direction, interface: str) -> tuple[Reading, ...]:
    if _is_kept_result(text):
        from ..files.survey_file import read_mappings  # surveys load with it

        return (read_mappings(file),)
    if is_ruleset(text):
        return read_ruleset(file, text, direction, interface)
    if is_rule_table(text):
        return (read_rule_table(file, text),)
    found = read_settings(file, text)
    if found is None:
        raise BadInput(file, InputProblem(0, f"is none of what is read here: {KINDS}"))
    return (found,)


def _is_kept_result(text: str) -> bool:
    """Whether a text looks like a result of the tool."""
    return text.lstrip().startswith("{") and '"eager-lantern/' in text[:200]


def service_of_settings(site: Site, device: str, name: str, settings: Sequence[Reading]) -> str:
    """The service that settings are of, which is one of the server's own."""
    if not settings:
        if name:
            raise typer.BadParameter("--service: only settings are of a service; these files are tables of a device")
        return ""
    if device != site.server.name:
        raise BadInput(settings[0].file, InputProblem(0, f"are settings of a server; {device} has no services"))
    protocols = {each.protocol or "ftp" for each in settings}
    if len(protocols) > 1:
        raise typer.BadParameter("these are settings of FTP and of SSH: name the files of one service at a time")
    return the_transfer(site, name, *protocols).name


def fits(site: Site, device: str, readings: Sequence[Reading]) -> None:
    """Raises BadInput for forwards of what is no gateway, and for rules of one family where a host has both."""
    gateways = {each.name for each in site.gateways}
    hosts: tuple[Server | Client, ...] = (site.server, *site.clients)
    addresses = [address for host in hosts if host.name == device for address in host.address.each]
    for each in readings:
        if untold := {address.family for address in addresses if address.family not in each.of_families}:
            missing = "ip6tables-save" if 6 in untold else "iptables-save"
            why = f"tells of one family alone, and {device} has addresses of both: give what {missing} prints as well"
            raise BadInput(each.file, InputProblem(0, why))
        if each.subject == "forwards" and device not in gateways:
            listed = ", ".join(sorted(gateways)) or "none"
            raise BadInput(each.file, InputProblem(0, f"has forwards, and {device} is no gateway; there are: {listed}"))
