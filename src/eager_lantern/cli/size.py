"""``size``: how many data ports, and how likely a transfer finds none free."""

import sys
from importlib.util import find_spec
from pathlib import Path

import typer
from msgspec.structs import replace

from ..core.findings.server import CHANCE, HANDLING
from ..core.model.site import Load, Service, default_own_ports
from ..core.sizing.demand import (
    REST_BY_LETTER_SECONDS,
    REST_OF_LINUX_SECONDS,
    Demand,
    Sized,
    SizeTried,
    Sizing,
    assumed,
    clear_range,
    demand_of,
    sized,
    taken_by,
)
from ..core.values.ports import PortSet
from ..core.values.quantities import Chance, Duration, Rate, Size
from ..formats.reading import bad_file
from ..formats.results.size import size_result
from ..formats.shipped import registered
from ..formats.site.site_file import PATTERN, SiteFile, find_site_file, read_site
from ..formats.writing import write, writes
from ..views.screen import command_line
from ..views.size import size_view
from .arguments import size_options as words
from .arguments.options import Format, ServiceName, Written, example, parsed, parsed_or_none, set_only
from .arguments.sites import the_transfer
from .exit_codes import CANNOT_TELL
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)
MOST_ROWS = 9


@app.command(
    epilog=example(
        "eager-lantern size --client-count 40 --files-per-hour 160",
        '--fetched-per-hour 0 --typical-size "6 MB" --rate "20 Mbit/s"',
        "--picture size.png",
    )
)
def size(
    site: words.LoadedSite = None,
    service: ServiceName = "",
    client_count: words.ClientCount = None,
    files_per_hour: words.FilesPerHour = None,
    fetched_per_hour: words.FetchedPerHour = None,
    listings_per_hour: words.ListingsPerHour = None,
    typical_size: words.TypicalSize = None,
    rate: words.OneRate = None,
    burst: words.Burst = None,
    rests: words.Rests = None,
    handling: words.Handling = str(HANDLING),
    chance: words.OfFailing = str(CHANCE),
    local_ports: words.LocalPorts = None,
    seed: words.Seed = 61,
    arrivals: words.Arrivals = 200_000,
    picture: words.Pictures = None,
    force: words.ForcedPictures = False,
    form: Written = Format.text,
) -> None:
    """Size the range of data ports.

    By Erlang's formula, by simulation, and by the worst burst.

    The load comes from the options, or from a site file with the options on top of it.
    """
    wanted = set_only(
        client_count=client_count,
        files_per_hour=files_per_hour,
        fetched_per_hour=fetched_per_hour,
        listings_per_hour=listings_per_hour,
        typical_size=parsed_or_none(Size, "--typical-size", typical_size),
        rate=parsed_or_none(Rate, "--rate", rate),
        burst=burst,
        rests=parsed_or_none(Duration, "--rests", rests),
    )
    if picture and find_spec("matplotlib") is None:
        print('eager-lantern: pictures need Matplotlib: pip install "eager-lantern[pictures]"', file=sys.stderr)
        raise typer.Exit(CANNOT_TELL)
    for each in picture or ():
        if each.suffix not in words.PICTURES:
            raise typer.BadParameter(f"--picture: {each} is to end with {' or '.join(words.PICTURES)}")
    if site is None and not wanted and not any(Path().glob(PATTERN)):
        raise typer.BadParameter(
            "name a site file, or a load: --client-count, or --burst for users at once; the other options refine it"
        )
    source = read_site(find_site_file(site)) if site is not None or not wanted else None
    chosen = the_transfer(source.site, service, "ftp") if source else None
    load = replace((chosen and chosen.load) or Load(), **wanted)
    try:
        sizing = sized(
            demand_of(load, parsed(Duration, "--handling", handling)), parsed(Chance, "--chance", chance).share
        )
        own = parsed_or_none(PortSet, "--local-ports", local_ports)
        local = own if own is not None else source.site.server.own_ports if source else default_own_ports("linux")
        taken = local | (taken_by(source.site, chosen.name) if source and chosen else PortSet())
        proposed = clear_range(sizing.size, taken, registered())
    except ValueError as error:
        raise _senseless(error, source, chosen) from None
    for each in picture or ():
        writes(each, force)
    from ..core.sizing.simulation import simulated  # NumPy loads slowly, and only once all options are good

    present = _present(chosen)
    rows = _sizes_to_show(sizing, present)
    tried = tuple(SizeTried(ports, simulated(sizing.demand, ports, seed, arrivals)) for ports in rows)
    result = Sized(
        title=f"{source.site.site}, {chosen.name}" if source and chosen else "Passive range",
        sizing=sizing,
        tried=tried,
        by_rest=tuple(_by_rest(sizing)),
        assumed=assumed(load),
        proposed=proposed,
        present=present,
        local_ports=local,
    )
    pictures = {}
    if picture:
        from ..views.size_picture import drawn  # Matplotlib loads slowly

        pictures = {each: drawn(result, each) for each in picture}
    write(pictures, force)
    finish(lambda: size_result(result), lambda: size_view(result, _following(source, chosen, result)), form)


def _senseless(error: ValueError, source: SiteFile | None, service: Service | None) -> Exception:
    """The line of the load that makes no sense, or the options."""
    if source is None or service is None:
        return typer.BadParameter(str(error))
    place = ("services", source.site.services.index(service), "load")
    return bad_file(source.file, str(error), source.line(place) or 0)


def _present(service: Service | None) -> PortSet:
    return service.passive.ports if service and service.passive else PortSet()


def _sizes_to_show(sizing: Sizing, present: PortSet) -> list[int]:
    """Sizes that show where the chance falls: around the offered load, and each that matters."""
    around = {max(1, round(sizing.demand.offered * part)) for part in (0.5, 1, 1.5, 2, 3)}
    matter = {sizing.by_load, sizing.by_burst, len(present)} - {0}
    spare = sorted(around - matter)[: MOST_ROWS - len(matter)]
    return sorted({*spare, *matter})


def _by_rest(sizing: Sizing) -> list[tuple[float, int]]:
    """The size for each habit of a server with the ports that it has used."""
    habits = (0.0, REST_OF_LINUX_SECONDS, REST_BY_LETTER_SECONDS)
    return [(seconds, _with_rest(sizing.demand, seconds, sizing.chance)) for seconds in habits]


def _with_rest(demand: Demand, seconds: float, chance: float) -> int:
    return sized(replace(demand, rests_seconds=seconds), chance).size


def _following(source: SiteFile | None, service: Service | None, result: Sized) -> str:
    """The command that helps most now."""
    ports = result.proposed.ports
    if source is None or service is None:
        return f"Next: {command_line('new', '--ports', str(ports))}"
    if result.keeps:
        return f"Next: {command_line('sheets', source.file)}"
    line = source.line(("services", source.site.services.index(service), "passive", "ports"))
    return f"Next: set ports: {ports} in line {line} of {source.file}, then {command_line('check', source.file)}"
