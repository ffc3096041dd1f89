"""All pages as one HTML file that can be printed: nothing in it comes from elsewhere."""

from jinja2 import Environment, StrictUndefined

from ..core.sheets.all import Sheets
from ..views.style import AMBER, BRICK, INK, SEA, SLATE

PALETTE = {"ink": INK, "amber": AMBER, "slate": SLATE, "brick": BRICK, "sea": SEA}


def sheet_pages(sheets: Sheets, template: str) -> str:
    """The HTML text, by a template of the shipped data."""
    environment = Environment(trim_blocks=True, lstrip_blocks=True, undefined=StrictUndefined, autoescape=True)
    return environment.from_string(template).render(sheets=sheets, palette=PALETTE)
