"""``schema``: the site file's JSON Schema."""

import typer

from ..files.results import as_json
from ..files.schema import site_schema
from .options import example
from .output import emit

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern schema > site.schema.json"))
def schema() -> None:
    """Print the JSON Schema of the site file.

    2020-12, for editors and other programs.

    An editor that reads it completes keys, shows what each means, and marks wrong values.
    """
    emit(as_json(site_schema()))
