"""Rule files for the Linux devices of a site: the very tables that the kernel lab builds, to load."""

from ..core.model.site import Gateway, Server, Site
from ..core.sheets.sheet import untold_parts
from ..core.values.ports import NO_PORTS
from .nftables import gateway_rules, host_rules, listening, named_wires

EXTERNAL, INTERNAL = "eth0", "eth1"
_HEAD = """\
# {device} of {site}: packet filter rules for nftables, from the site file.
# Check: nft -c -f FILE. Load: nft -f FILE. Take back: nft delete table inet eager_lantern.
# Other tables stay as they are; a connection has to pass all of them.
"""
_WIRES = "# Put the names of this machine's interfaces here (ip -brief address).\n"


def rule_files(site: Site) -> dict[str, str]:
    """The text of the rule file of each device whose system is linux, by its name; none for one of which the file says
    that something is not known."""
    ports = listening(site)
    found = {}
    devices: tuple[Server | Gateway, ...] = (site.server, *site.gateways)
    for each in devices:
        if each.system != "linux" or untold_parts(each):
            continue
        if isinstance(each, Gateway):
            rules = _WIRES + named_wires(EXTERNAL, INTERNAL) + "\n" + gateway_rules(each, ports)
        else:
            reads = each.helper_ports if each.ftp_helper else NO_PORTS
            rules = host_rules(each.filter, each.category, ports, reads)
        found[each.name] = _HEAD.format(device=each.name, site=site.site) + "\n" + rules
    return found
