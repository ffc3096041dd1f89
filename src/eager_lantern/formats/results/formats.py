"""Every format of a result, with the type that writes it."""

from msgspec import Struct

from .adopt import AdoptResult, FirstSiteResult
from .carried import CarriedResult, CarryResult
from .check import CheckFolderResult, CheckResult
from .compare import CompareResult, CompareVisitsResult
from .diagnose import DiagnoseResult
from .lamp import LampBurnt, LampLit, LampPhone, LampResult
from .mend import MendResult
from .pages import CertificateResult, ExplainResult, NewResult, SheetsResult
from .rehearse import RehearseResult
from .size import SizeResult
from .survey import SurveyResult
from .visit import VisitResult
from .walk import WalkResult

FORMATS: dict[str, type[Struct]] = {
    "adopt": AdoptResult,
    "carried": CarriedResult,
    "carry": CarryResult,
    "certificate": CertificateResult,
    "check": CheckResult,
    "check-folder": CheckFolderResult,
    "compare": CompareResult,
    "compare-visits": CompareVisitsResult,
    "diagnose": DiagnoseResult,
    "explain": ExplainResult,
    "first-site": FirstSiteResult,
    "lamp": LampResult,
    "lamp-burnt": LampBurnt,
    "lamp-lit": LampLit,
    "lamp-phone": LampPhone,
    "mend": MendResult,
    "new": NewResult,
    "rehearse": RehearseResult,
    "sheets": SheetsResult,
    "size": SizeResult,
    "survey": SurveyResult,
    "visit": VisitResult,
    "walk": WalkResult,
}
