"""What a program may use of Eager Lantern: everything here stays as it is named; modules below may move.

Reading a site file gives a :class:`SiteFile`, whose ``site`` is a plain value. :func:`judge` predicts all of it;
:class:`Topology` makes it ready for questions about single promises (:func:`predict`) and single connections
(:func:`trace`). :func:`read_device` reads what a device or server prints, :func:`adopted` puts it into a site,
:func:`compare` compares two sites, :func:`mend` searches for the cheapest changes, :func:`diagnose` for the causes of
an :class:`Observation`; the last two take the costs and weights that ship with the program (:func:`shipped_costs`,
:func:`shipped_knowledge`) or others. Sets of ports and of addresses print as the site file writes them and have the
operators of sets. Nothing here prints, opens a socket or asks the clock; files are read by :func:`read_site` and by the
two that ship with the program.
"""

from .core.changes.adopted import DeviceConfig, adopted
from .core.changes.states import Comparison, compare
from .core.diagnosis.diagnosis import Diagnosis, Knowledge, diagnose
from .core.findings.finding import Finding
from .core.mending.mend import mend
from .core.mending.plan import Costs, Mending, Plan
from .core.model.change import Change, changed
from .core.model.site import Client, Forward, Gateway, Promise, Rule, Server, Service, Site
from .core.network.flow import Flow, Journey, Step
from .core.network.journey import trace
from .core.network.topology import Topology
from .core.observed.observation import Observation, Situation
from .core.predict.endpoints import position_of
from .core.predict.forecast import Data, Forecast, Stop, because
from .core.predict.ledger import Layer, Ledger
from .core.predict.session import predict
from .core.predict.walk import walk_to
from .core.sizing.demand import Demand, Sizing, demand_of, sized
from .core.values.addresses import Address, Addresses, AddressSet
from .core.values.ports import PortSet
from .core.verdict import Verdict, judge
from .formats.devices.format import DeviceTarget
from .formats.devices.register import read_files as read_device
from .formats.reading import BadInput, InputProblem
from .formats.results.base import as_json
from .formats.results.check import CheckResult, check_result
from .formats.site.site_file import SiteFile, parse_site, read_site
from .formats.weights import shipped_costs, shipped_knowledge

__all__ = [
    "Address", "AddressSet", "Addresses", "BadInput", "Change", "CheckResult", "Client", "Comparison", "Costs", "Data",
    "Demand", "DeviceConfig", "DeviceTarget", "Diagnosis", "Finding", "Flow", "Forecast", "Forward", "Gateway",
    "InputProblem", "Journey", "Knowledge", "Layer", "Ledger", "Mending", "Observation", "Plan", "PortSet", "Promise",
    "Rule", "Server", "Service", "Site", "SiteFile", "Situation", "Sizing", "Step", "Stop", "Topology", "Verdict",
    "adopted", "as_json", "because", "changed", "check_result", "compare", "demand_of", "diagnose", "judge", "mend",
    "parse_site", "position_of", "predict", "read_device", "read_site", "shipped_costs", "shipped_knowledge", "sized",
    "trace", "walk_to",
]  # fmt: skip
