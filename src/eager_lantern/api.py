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
from .core.predict.endpoints import stand_of
from .core.predict.forecast import Data, Forecast, Stop
from .core.predict.layers import Layer
from .core.predict.ledger import Ledger
from .core.predict.session import predict
from .core.predict.walk import walk_to
from .core.predict.wording import because
from .core.sizing.demand import Demand, Sizing, demand_of, sized
from .core.values.addresses import Address, Addresses, AddressSet
from .core.values.ports import PortSet
from .core.verdict import Verdict, judge
from .files.problem import BadInput, InputProblem
from .files.results.check import CheckResult, check_result
from .files.results.text import as_json
from .files.site_file import SiteFile, parse_site, read_site

__all__ = [
    "Address", "AddressSet", "Addresses", "BadInput", "Change", "CheckResult", "Client", "Data", "Demand", "Finding",
    "Flow", "Forecast", "Forward", "Gateway", "InputProblem", "Journey", "Layer", "Ledger", "PortSet", "Promise",
    "Rule", "Server", "Service", "Site", "SiteFile", "Sizing", "Step", "Stop", "Topology", "Verdict", "as_json",
    "because", "changed", "check_result", "demand_of", "judge", "parse_site", "predict", "read_site", "sized",
    "stand_of", "trace", "walk_to",
]  # fmt: skip
