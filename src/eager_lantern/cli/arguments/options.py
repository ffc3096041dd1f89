"""Choices that several commands offer."""

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from . import completion


class Format(StrEnum):
    """How a result is written."""

    text = "text"
    json = "json"


class SessionMode(StrEnum):
    """Who opens the data connections of a session: the client, or the server."""

    passive = "passive"
    active = "active"


SiteArgument = Annotated[
    Path | None, typer.Argument(readable=False, help="The site file; default: the only *.site.yaml here.")
]
ServiceName = Annotated[
    str, typer.Option(help="A service of the site; default: the only one.", autocompletion=completion.services)
]
Written = Annotated[Format, typer.Option("--format", help="text for people, json for programs.")]
Forced = Annotated[bool, typer.Option("--force", help="Replace a file that is there already.")]
