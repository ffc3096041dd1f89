"""What `certificate` shows: what was made, for whom, and where it goes."""

from collections.abc import Iterator, Sequence
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from ..core.values.addresses import address_or_none
from .screen import columns, command, typed
from .style import ACCENT, STRONG


def certificate_view(
    names: Sequence[str], key: Path, public: Path, digest: str | None, days: int, site: str
) -> Iterator[RenderableType]:
    """The files and the next steps; ``digest`` is that of a self-signed certificate."""
    what = "self-signed certificate" if digest else "signing request"
    yield Text(f"A private key and a {what}", style=STRONG)
    yield ""
    table = columns(widths=(14, None))
    table.add_row("  made for", Text(", ".join(names), style=STRONG))
    table.add_row("  private key", f"{key}   readable by you alone")
    table.add_row(f"  {'certificate' if digest else 'request'}", f"{public}")
    if digest:
        table.add_row("  valid", f"{days} days")
        pairs = spaced(digest)
        table.add_row("  fingerprint", Text(f"SHA-256 {pairs[:48]}\n        {pairs[48:]}"))
    yield table
    yield ""
    for number, step in enumerate(_steps(names, key, public, digest), start=1):
        line = columns(widths=(4, None))
        line.add_row(f"  {number}.", Text(step))
        yield line
    yield ""
    yield command(f"Next: {typed('check', site, '--certificate', str(public) if digest else 'SIGNED.pem')}", ACCENT)


def spaced(digest: str) -> str:
    """A digest in pairs, as clients show it and as it can be read over the telephone."""
    upper = digest.upper()
    return ":".join(upper[i : i + 2] for i in range(0, len(upper), 2))


def _steps(names: Sequence[str], key: Path, public: Path, digest: str | None) -> Iterator[str]:
    if digest:
        yield f"On the server, enter {public.name} as certificate and {key.name} as key, and restart the service."
        yield f"Give {public.name} and its fingerprint to the users, whose clients must be told once to trust it."
    else:
        yield f"Send {public.name} to the authority that signs for your users; it holds nothing secret."
        if special := [each for each in names if (found := address_or_none(each)) and found.kind != "public"]:
            yield f"Public authorities sign no private address: for one, leave out {', '.join(special)} (--only-names)."
        yield f"On the server, enter what comes back as certificate and {key.name} as key, and restart the service."
    yield "In the site file, add certificate: and key: to the service's tls, so that check watches over them."
