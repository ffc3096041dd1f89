"""What a program may use of Eager Lantern: everything here stays as it is named; modules below may move.

Reading a site file gives a :class:`SiteFile`, whose ``site`` is a plain value. :func:`judge` predicts all of it;
:class:`Topology` makes it ready for questions about single promises (:func:`predict`) and single connections
(:func:`trace`). Sets of ports and of addresses print as the site file writes them and have the operators of sets.
Nothing here prints, opens a socket or asks the clock; files are read by :func:`read_site` alone.
"""

from .core.findings.finding import Finding
from .core.model.change import Change, changed
from .core.model.site import Client, Forward, Gateway, Promise, Rule, Server, Service, Site
from .core.network.flow import Flow, Journey, Step
from .core.network.journey import trace
from .core.network.topology import Topology
from .core.predict.endpoints import position_of
from .core.predict.forecast import Data, Forecast, Stop, because
from .core.predict.ledger import Layer, Ledger
from .core.predict.session import predict
from .core.predict.walk import walk_to
from .core.sizing.demand import Demand, Sizing, demand_of, sized
from .core.values.addresses import Address, Addresses, AddressSet
from .core.values.ports import PortSet
from .core.verdict import Verdict, judge
from .formats.reading import BadInput, InputProblem
from .formats.results.base import as_json
from .formats.results.check import CheckResult, check_result
from .formats.site.site_file import SiteFile, parse_site, read_site

__all__ = [
    "Address",
    "AddressSet",
    "Addresses",
    "BadInput",
    "Change",
    "CheckResult",
    "Client",
    "Data",
    "Demand",
    "Finding",
    "Flow",
    "Forecast",
    "Forward",
    "Gateway",
    "InputProblem",
    "Journey",
    "Layer",
    "Ledger",
    "PortSet",
    "Promise",
    "Rule",
    "Server",
    "Service",
    "Site",
    "SiteFile",
    "Sizing",
    "Step",
    "Stop",
    "Topology",
    "Verdict",
    "as_json",
    "because",
    "changed",
    "check_result",
    "demand_of",
    "judge",
    "parse_site",
    "position_of",
    "predict",
    "read_site",
    "sized",
    "trace",
    "walk_to",
]  # fmt: skip
