"""Undoing what is otherwise than the site file says.

A cause that `diagnose` names may stand on a device and not in the file: there the file is the cure, and what it says
has to be entered on the device again.
"""

from collections.abc import Collection

from ..faults.all import faults_of
from ..faults.fault import Fault
from ..model.site import Site


def undone(site: Site, kinds: Collection[str]) -> tuple[Fault, ...]:
    """Where each of these kinds of faults may stand on a consistent site, with what to look at and what undoes it;
    faults of one place that are undone alike are told once."""
    faults = [each for each in faults_of(site) if each.kind in kinds]
    return tuple({(each.kind, each.at, each.place, each.cure): each for each in reversed(faults)}.values())[::-1]
