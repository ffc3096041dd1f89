"""Results as JSON (DESIGN 7), one module a command. The types that write a result are those that its published
schema is made from (``schema --of``) and, where it is read again, those that read it."""

from msgspec import Struct

from .base import LineOf, Result, as_json, plain
from .check import CheckFolderResult, CheckResult, check_result
from .lamp import LampResult, sweep_result
from .pages import CertificateResult, ExplainResult, FindingPage, SheetsResult
from .rehearse import RehearseResult, rehearse_result
from .size import SizeResult, size_result
from .visit import Taken, VisitResult, climbs_of, visit_result
from .walk import WalkResult, walk_result

FORMATS: dict[str, type[Struct]] = {
    "certificate": CertificateResult,
    "check": CheckResult,
    "check-folder": CheckFolderResult,
    "explain": ExplainResult,
    "lamp": LampResult,
    "rehearse": RehearseResult,
    "sheets": SheetsResult,
    "size": SizeResult,
    "visit": VisitResult,
    "walk": WalkResult,
}

__all__ = [
    "FORMATS",
    "CertificateResult",
    "CheckFolderResult",
    "ExplainResult",
    "FindingPage",
    "LineOf",
    "Result",
    "SheetsResult",
    "Taken",
    "VisitResult",
    "as_json",
    "check_result",
    "climbs_of",
    "plain",
    "rehearse_result",
    "size_result",
    "sweep_result",
    "visit_result",
    "walk_result",
]
