"""The command that tries a service at a host and port, whoever stands there."""

from shlex import quote

from ..values.phrases import operand
from .site import Service, Site


def visit_command(site: Site, service: Service, host: str, port: int) -> str:
    """As a shell reads it, with an account of the service."""
    user = next((each.name for each in site.accounts if each.service == service.name), "")
    if service.protocol == "sftp":
        target = f"{user or 'ACCOUNT'}@{f'[{host}]' if ':' in host else host}"
        return f"sftp -P {port} {operand(target)}"
    account = f" --user {quote(user)}" if user else ""
    options = f"--port {port}{_secured(service)}{account}"
    return (
        f"eager-lantern visit {options} {operand(host)}"
        if host.startswith("-")
        else f"eager-lantern visit {quote(host)} {options}"
    )


def _secured(service: Service) -> str:
    return {"none": " --security none", "explicit": "", "implicit": " --security implicit"}[service.tls.mode]
