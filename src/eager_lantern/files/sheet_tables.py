"""Tables of pages as CSV (RFC 4180)."""

import csv
import io

from ..core.sheet import Grid


def grid_csv(grid: Grid) -> str:
    """A table with its heads, in UTF-8 when written."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(grid.heads)
    writer.writerows(grid.rows)
    return out.getvalue()
