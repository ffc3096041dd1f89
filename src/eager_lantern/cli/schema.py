"""``schema``: the site file's JSON Schema."""

import typer

from ..files.results import as_json
from ..files.schema import site_schema
from .output import emit

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog="Example: eager-lantern schema > site.schema.json")
def schema() -> None:
    """Print the JSON Schema (2020-12) of the site file, for editors and other programs.

    An editor that reads it completes keys, shows what each means, and marks wrong values.
    """
    emit(as_json(site_schema()))
