"""``eager-lantern/sheets/1``, ``eager-lantern/explain/1``, ``eager-lantern/certificate/1`` and
``eager-lantern/new/1``: what was written, and what is told."""

from typing import Literal

from ...core.model.entries import KeyPage
from ...core.sheets.sheet import Sheet
from .base import ResultPart
from .check import CheckResult


class SheetsResult(ResultPart, frozen=True, kw_only=True):
    """The pages that were written; ``stale`` are files of an earlier run that are no part of them."""

    format: Literal["eager-lantern/sheets/1"] = "eager-lantern/sheets/1"
    folder: str
    files: tuple[str, ...]
    stale: tuple[str, ...]
    title: str
    trouble: str
    pages: tuple[Sheet, ...]


class FindingPage(ResultPart, frozen=True, kw_only=True):
    """A kind of finding, explained."""

    means: str
    shows: str
    cure: str


class SymptomPage(ResultPart, frozen=True, kw_only=True):
    """What people see: what it can and cannot be, where to look first, and the pages that go on from there."""

    title: str
    can_be: tuple[str, ...]
    cannot_be: str
    look: str
    pages: tuple[str, ...]


class ExplainResult(ResultPart, frozen=True, kw_only=True):
    """Kinds of finding, keys of the site file, or what people see."""

    format: Literal["eager-lantern/explain/1"] = "eager-lantern/explain/1"
    findings: dict[str, FindingPage]
    keys: tuple[KeyPage, ...]
    symptoms: dict[str, SymptomPage]


class CertificateResult(ResultPart, frozen=True, kw_only=True):
    """What was made, for which names; ``digest`` is SHA-256 over a self-signed certificate, in hexadecimal."""

    format: Literal["eager-lantern/certificate/1"] = "eager-lantern/certificate/1"
    names: tuple[str, ...]
    key: str
    public: str
    self_signed: bool
    digest: str | None


class NewResult(ResultPart, frozen=True, kw_only=True):
    """The site file that was written, that of a first stage where there is one, the answers that it was made from, and
    what check predicts."""

    format: Literal["eager-lantern/new/1"] = "eager-lantern/new/1"
    file: str
    first_stage: str | None
    answers: dict[str, str]
    check: CheckResult
