"""``certificate``: a key, and a request or a self-signed certificate, for the names that clients type."""

from datetime import UTC, datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from ..core.findings.server import typed_by_clients
from ..core.values.addresses import address_or_none
from ..formats.certificates import certificate_at
from ..formats.keys import key_pem, new_key, refuse_no_host, self_signed, signing_request
from ..formats.reading import BadInput, bad_file
from ..formats.results.pages import CertificateResult
from ..formats.site.site_file import SiteFile, find_site_file, read_site
from ..formats.writing import folder_for_new, write_new
from ..views.setting_up import certificate_view
from .arguments.options import Format, ServiceName, SiteArgument, Written, example
from .arguments.sites import the_transfer
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


class Key(StrEnum):
    """What kind of key: EC on the curve P-256, or RSA with 3,072 bits."""

    ec = "ec"
    rsa = "rsa"


@app.command(epilog=example("eager-lantern certificate saltmarsh.site.yaml --self-signed", "--into keys"))
def certificate(
    site: SiteArgument = None,
    service: ServiceName = "",
    name: Annotated[list[str] | None, typer.Option(help="One more name or address to make it for.")] = None,
    only_names: Annotated[
        bool, typer.Option("--only-names", help="Leave out the addresses that clients type.")
    ] = False,
    by_itself: Annotated[
        bool, typer.Option("--self-signed", help="A certificate that vouches for itself, instead of a request.")
    ] = False,
    days: Annotated[int, typer.Option(min=1, max=3650, help="How long a self-signed one is valid.")] = 397,
    key: Annotated[Key, typer.Option(help="The kind of key.")] = Key.ec,
    into: Annotated[Path, typer.Option(help="The folder to write to; it is made where it is missing.")] = Path(),
    form: Written = Format.text,
) -> None:
    """Make a key, and a request or a certificate.

    It is made for the names and addresses that clients of the site type. Nothing is
    overwritten, and the key is readable by you alone.
    """
    source = read_site(find_site_file(site))
    chosen = the_transfer(source.site, service, "ftp")
    typed = [each for each in typed_by_clients(source.site, chosen) if not (only_names and address_or_none(each))]
    names = tuple(dict.fromkeys((*typed, *(name or ()))))
    if not names:
        message = f"found no address that a client of {chosen.name} reaches; expected one, or --name"
        raise _service_error(source, chosen.name, message)
    secret = new_key(key.value)
    try:
        refuse_no_host(names)
        public = (
            self_signed(secret, names, datetime.now(UTC), timedelta(days=days))
            if by_itself
            else signing_request(secret, names)
        )
    except ValueError as error:
        raise typer.BadParameter(f"{', '.join(names)}: no certificate can hold this: {error}") from None
    stem = "".join(each if each.isalnum() or each in "-." else "-" for each in chosen.name)
    paths = into / f"{stem}-key.pem", into / (f"{stem}-certificate.pem" if by_itself else f"{stem}-request.csr")
    with folder_for_new(into):
        write_new({paths[0]: key_pem(secret), paths[1]: public}, private=[paths[0]])
    digest = certificate_at(paths[1]).digest if by_itself else None
    made = CertificateResult(names=names, key=str(paths[0]), public=str(paths[1]), self_signed=by_itself, digest=digest)
    finish(lambda: made, lambda: certificate_view(names, *paths, digest, days, source.file), form)


def _service_error(source: SiteFile, service: str, message: str) -> BadInput:
    index = [each.name for each in source.site.services].index(service)
    return bad_file(source.file, message, source.line(("services", index)) or 0)
