"""Options of ``size``."""

from pathlib import Path
from typing import Annotated

import typer

PICTURES = (".png", ".svg")
LoadedSite = Annotated[
    Path | None,
    typer.Argument(readable=False, help="A site file; default: the only one here, unless a load is given."),
]
ClientCount = Annotated[int | None, typer.Option(min=0, max=10**9, help="How many clients there are.")]
FilesPerHour = Annotated[int | None, typer.Option(min=0, max=10**9, help="Files of all clients in an hour.")]
FetchedPerHour = Annotated[
    int | None, typer.Option(min=0, max=10**9, help="How many of them clients fetch; default: all.")
]
ListingsPerHour = Annotated[
    int | None, typer.Option(min=0, max=10**9, help="Listings of all clients; default: one a file.")
]
TypicalSize = Annotated[str | None, typer.Option(help="Of a file, such as “6 MB”.")]
OneRate = Annotated[str | None, typer.Option(help="Of one transfer, such as “20 Mbit/s”.")]
Burst = Annotated[
    int | None, typer.Option(min=0, max=10**9, help="Clients that start at the same moment; default: all.")
]
Rests = Annotated[str | None, typer.Option(help="How long a port rests after the server closed first; default: 60 s.")]
Handling = Annotated[str, typer.Option(help="How long a data connection stands beside its bytes.")]
OfFailing = Annotated[str, typer.Option(help="How likely a data connection may find no port.")]
LocalPorts = Annotated[
    str | None, typer.Option(help="The system's own outgoing ports; default: the site's, or 32768-60999.")
]
Seed = Annotated[int, typer.Option(min=0, max=2**32, help="Of the simulation.")]
Arrivals = Annotated[
    int, typer.Option(min=1000, max=10_000_000, help="Data connections that the simulation plays through.")
]
Pictures = Annotated[
    list[Path] | None, typer.Option(help="Draw the chances into this .png or .svg file; may be given twice.")
]
ForcedPictures = Annotated[bool, typer.Option("--force", help="Replace pictures that are there already.")]
