"""Tables of pages as CSV (RFC 4180)."""

import csv
import io

from ..core.sheets.sheet import Grid


def _inert(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula gets a quote in front (OWASP, CSV injection)."""
    return f"'{cell}" if cell.startswith(("=", "+", "-", "@", "\t", "\r")) and cell != "-" else cell


def grid_csv(grid: Grid) -> str:
    """A table with its heads, in UTF-8 when written."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(map(_inert, grid.heads))
    writer.writerows(map(_inert, row) for row in grid.rows)
    return out.getvalue()
