"""The stand-in: a real file transfer server on loopback that behaves as a service says.

pyftpdlib speaks the protocol; what is configured here is what a site describes: control
port, passive range, announced address, TLS. It serves one made-up account from a folder.
"""

import logging
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from ..core.ports import PortSet

_LOG = logging.getLogger("pyftpdlib")
LOOPBACK = "127.0.0.1"
EVERY_RIGHT = "elradfmwMT"


@dataclass(frozen=True, slots=True)
class StandInSetup:
    """How the stand-in is to behave; port 0 is any free one, no certificate means no TLS."""

    folder: Path
    user: str
    password: str
    address: str = LOOPBACK
    control_port: int = 0
    passive_ports: PortSet | None = None
    announce: str | None = None
    certificate: Path | None = None
    rights: str = EVERY_RIGHT


class StandIn:
    """A running server; use it as a context manager."""

    def __init__(self, setup: StandInSetup) -> None:
        _LOG.addHandler(logging.NullHandler())
        _LOG.propagate = False
        self._loop = IOLoop()
        self._server = FTPServer((setup.address, setup.control_port), _handler(setup), ioloop=self._loop)
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._serve, name="stand-in", daemon=True)

    @property
    def port(self) -> int:
        """The control port that it listens on."""
        return int(self._server.address[1])

    def _serve(self) -> None:
        while not self._stopping.is_set():
            self._loop.loop(timeout=0.05, blocking=False)
        self._server.close_all()

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopping.set()
        self._thread.join(timeout=5)


def _handler(setup: StandInSetup) -> type[Any]:
    authorizer = DummyAuthorizer()
    authorizer.add_user(setup.user, setup.password, str(setup.folder), perm=setup.rights)
    settings: dict[str, Any] = {
        "authorizer": authorizer,
        "banner": "stand-in ready",
        "passive_ports": list(setup.passive_ports) if setup.passive_ports else None,
        # the library's own setting for the address in passive replies
        "masquerade_{}".format("address"): setup.announce,
        "permit_foreign_addresses": False,
    }
    if setup.certificate is None:
        return type("Handler", (FTPHandler,), settings)
    secured = {"certfile": str(setup.certificate), "tls_control_required": True, "tls_data_required": True}
    return type("SecuredHandler", (TLS_FTPHandler,), {**settings, **secured})
