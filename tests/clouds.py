"""Filters of two clouds as far as their command lines' calls go that our scripts make (public interface of az and
gcloud): what they are given is held against the providers' published models, kept in a file, and printed as they do.

As a program: clouds.py PROVIDER STATE ARGUMENTS...
"""

import argparse
import json
import re
import sys
from pathlib import Path
from typing import Any

Rules = dict[str, dict[str, Any]]


def az(rules: Rules, arguments: list[str]) -> str:
    """One call of az: what it prints."""
    assert arguments[:3] == ["network", "nsg", "rule"], arguments
    given = argparse.ArgumentParser(allow_abbrev=False)
    for name in ("resource-group", "nsg-name", "output"):
        given.add_argument(f"--{name}", required=True)
    if arguments[3] == "list":
        given.add_argument("--query", choices=["[].name"], required=True)
        given.parse_args(arguments[4:])
        return "".join(f"{name}\n" for name in rules)
    given.add_argument("--name", required=True)
    if arguments[3] == "delete":
        del rules[given.parse_args(arguments[4:]).name]
        return ""
    assert arguments[3] == "create", arguments
    for name in ("priority", "direction", "access", "protocol"):
        given.add_argument(f"--{name}", required=True)
    given.add_argument("--description")
    for side in ("source", "destination"):
        given.add_argument(f"--{side}-port-ranges", nargs="+", required=True)
        given.add_argument(f"--{side}-address-prefixes", nargs="+", required=True)
    values = vars(given.parse_args(arguments[4:]))
    assert re.fullmatch(r"[A-Za-z0-9]([A-Za-z0-9_.-]{0,78}[A-Za-z0-9_])?", values["name"]), "a name as documented"
    assert len(values["description"] or "") <= 140, "a description as documented"
    assert 100 <= int(values["priority"]) <= 4096, "a priority as documented"
    taken = {(each["direction"], each["priority"]) for name, each in rules.items() if name != values["name"]}
    assert (values["direction"], int(values["priority"])) not in taken, "a priority stands once for each direction"
    rules[values["name"]] = _security_rule(values)
    return ""


def _security_rule(values: dict[str, Any]) -> dict[str, Any]:
    from azure.mgmt.network import models

    parts: dict[str, Any] = {}
    for side in ("source", "destination"):
        for one, many, key in (("port_range", "port_ranges", "port_ranges"),
                               ("address_prefix", "address_prefixes", "address_prefixes")):  # fmt: skip
            given = values[f"{side}_{key}"]
            single = len(given) == 1
            families = {":" in each for each in given} if "address" in one and given != ["*"] else {False}
            assert len(families) == 1, "addresses of one family"
            parts[f"{side}_{one}" if single else f"{side}_{many}"] = given[0] if single else given
    enums = {
        "direction": models.SecurityRuleDirection, "access": models.SecurityRuleAccess,
        "protocol": models.SecurityRuleProtocol,
    }  # fmt: skip
    chosen = {key: kind(values[key]).value for key, kind in enums.items()}
    made = models.SecurityRulePropertiesFormat(
        priority=int(values["priority"]), description=values["description"], **chosen, **parts
    )
    return {"name": values["name"], **made.as_dict()}


def nsg(rules: Rules) -> str:
    """What ``az network nsg show`` prints of these rules, with the six of the provider, as documented."""
    own = [
        {
            "name": f"{direction}{priority}", "priority": priority, "direction": direction, "access": access,
            "protocol": "*", "sourcePortRange": "*", "destinationPortRange": "*",
            "sourceAddressPrefix": source, "destinationAddressPrefix": target,
        }
        for priority, direction, source, target, access in (
            (65000, "Inbound", "VirtualNetwork", "VirtualNetwork", "Allow"),
            (65001, "Inbound", "AzureLoadBalancer", "*", "Allow"),
            (65500, "Inbound", "*", "*", "Deny"),
            (65000, "Outbound", "VirtualNetwork", "VirtualNetwork", "Allow"),
            (65001, "Outbound", "*", "Internet", "Allow"),
            (65500, "Outbound", "*", "*", "Deny"),
        )
    ]  # fmt: skip
    return json.dumps({"name": "tide-nsg", "securityRules": list(rules.values()), "defaultSecurityRules": own})


def gcloud(rules: Rules, arguments: list[str]) -> str:
    """One call of gcloud: what it prints."""
    assert arguments[:2] == ["compute", "firewall-rules"], arguments
    given = argparse.ArgumentParser(allow_abbrev=False)
    if arguments[2] == "list":
        given.add_argument("--filter", required=True)
        given.add_argument("--format", choices=["value(name)"], required=True)
        sought = given.parse_args(arguments[3:]).filter
        assert sought.startswith("name~"), sought
        return "".join(f"{name}\n" for name in rules if re.search(sought[5:], name))
    given.add_argument("name")
    given.add_argument("--quiet", action="store_true", required=True)
    if arguments[2] == "delete":
        del rules[given.parse_args(arguments[3:]).name]
        return ""
    assert arguments[2] == "create", arguments
    for name in ("network", "target-tags", "direction", "action", "priority", "rules"):
        given.add_argument(f"--{name}", required=True)
    for name in ("source-ranges", "destination-ranges", "description"):
        given.add_argument(f"--{name}")
    values = vars(given.parse_args(arguments[3:]))
    assert values["name"] not in rules, "a name stands once"
    rules[values["name"]] = _firewall(values)
    return ""


def _firewall(values: dict[str, Any]) -> dict[str, Any]:
    from google.cloud import compute_v1

    assert re.fullmatch(r"[a-z]([-a-z0-9]{0,61}[a-z0-9])?", values["name"]), "a name as documented"
    assert 0 <= int(values["priority"]) <= 65535, "a priority as documented"
    ranges = {
        key: (values[key] or "").split(",") if values[key] else [] for key in ("source_ranges", "destination_ranges")
    }
    assert len({":" in each for several in ranges.values() for each in several}) == 1, "addresses of one family"
    assert ranges["source_ranges" if values["direction"] == "INGRESS" else "destination_ranges"], "the other side's"
    protocols: dict[str, list[str]] = {}
    for each in values["rules"].split(","):
        name, _, ports = each.partition(":")
        protocols.setdefault(name, []).extend([ports] if ports else [])
    kind, key = (compute_v1.Allowed, "allowed") if values["action"] == "ALLOW" else (compute_v1.Denied, "denied")
    parts = [kind(I_p_protocol=name, ports=ports) for name, ports in protocols.items()]
    made = compute_v1.Firewall(
        name=values["name"], direction=compute_v1.Firewall.Direction[values["direction"]].name,
        priority=int(values["priority"]), network=f"global/networks/{values['network']}",
        target_tags=[values["target_tags"]], description=values["description"] or "", **{key: parts}, **ranges,
    )  # fmt: skip
    return dict(json.loads(compute_v1.Firewall.to_json(made, always_print_fields_with_no_presence=False)))


def machine(tag: str) -> str:
    """What ``gcloud compute instances describe`` prints of a machine with a tag."""
    from google.cloud import compute_v1

    one = compute_v1.NetworkInterface(network_i_p="10.61.4.20")
    made = compute_v1.Instance(
        kind="compute#instance", name="tide-machine", tags=compute_v1.Tags(items=[tag]), network_interfaces=[one]
    )
    return str(compute_v1.Instance.to_json(made, always_print_fields_with_no_presence=False))


def main(provider: str, state: Path, arguments: list[str]) -> None:
    rules = json.loads(state.read_text()) if state.exists() else {}
    sys.stdout.write({"az": az, "gcloud": gcloud}[provider](rules, arguments))
    state.write_text(json.dumps(rules))


if __name__ == "__main__":
    main(sys.argv[1], Path(sys.argv[2]), sys.argv[3:])
