"""``schema``: the JSON Schema of the site file, or of a result."""

from typing import Annotated

import typer

from ..files.results.formats import FORMATS
from ..files.results.text import as_json
from ..files.schema import result_schema, site_schema
from .arguments.example import example
from .arguments.site_names import known
from .output import emit

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern schema > site.schema.json"))
def schema(
    of: Annotated[str, typer.Option(help="Of a result, such as check, walk or visit; default: of the site file.")] = "",
) -> None:
    """Print the JSON Schema of the site file, or of a result.

    2020-12, for editors and other programs.

    An editor that reads it completes keys, shows what each means, and marks wrong values. Those of results are made
    from the very types that write them.
    """
    if of:
        known("--of", of, list(FORMATS))
    emit(as_json(result_schema(FORMATS[of]) if of else site_schema()))
