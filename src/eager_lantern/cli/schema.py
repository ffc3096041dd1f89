"""``schema``: the JSON Schema of the site file, or of a result."""

from typing import Annotated

import typer

from ..formats.results.base import as_json
from ..formats.results.formats import FORMATS
from ..formats.site.schema import result_schema, site_schema
from .arguments import completion
from .arguments.options import example
from .arguments.sites import known
from .ending import emit

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern schema > site.schema.json"))
def schema(
    of: Annotated[
        str,
        typer.Option(
            help="Of a result, such as check, walk or visit; default: of the site file.",
            autocompletion=completion.results,
        ),
    ] = "",
) -> None:
    """Print the JSON Schema of the site file, or of a result.

    2020-12, for editors and other programs.

    An editor that reads it completes keys, shows what each means, and marks wrong values. Those of results are made
    from the very types that write them.
    """
    if of:
        known("--of", of, list(FORMATS))
    emit(as_json(result_schema(FORMATS[of]) if of else site_schema()))
