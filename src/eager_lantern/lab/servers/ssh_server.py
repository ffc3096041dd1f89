"""The stand-in for SSH file transfer, and its self-signed certificates."""

import asyncio
import threading
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Self

import asyncssh

from ...formats.keys import key_pem, new_key, self_signed
from .setup import Guest, SshSetup

_WRITES = asyncssh.FXF_WRITE | asyncssh.FXF_APPEND | asyncssh.FXF_CREAT | asyncssh.FXF_TRUNC


class SshStandIn:
    """A running server of one or more services; use it as a context manager. Raises OSError."""

    def __init__(self, *setups: SshSetup) -> None:
        self._setups = setups
        self._loop = asyncio.new_event_loop()
        self._acceptors: list[asyncssh.SSHAcceptor] = []
        self._thread = threading.Thread(target=self._loop.run_forever, name="ssh-stand-in", daemon=True)

    @property
    def port(self) -> int:
        """The port that the first service listens on."""
        return self._acceptors[0].get_port()

    def __enter__(self) -> Self:
        self._loop.run_until_complete(self._listen())
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        asyncio.run_coroutine_threadsafe(self._close(), self._loop).result(timeout=5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(timeout=5)

    async def _listen(self) -> None:
        for setup in self._setups:
            guests = {each.user: each for each in setup.guests}
            for address, port in setup.doors:
                acceptor = await asyncssh.listen(
                    address,
                    port,
                    server_host_keys=[str(setup.host_key)],
                    server_factory=lambda known=guests: _Accounts(known),
                    sftp_factory=lambda chan, known=guests: _Files(chan, known),
                    allow_scp=False,
                    config=None,
                )
                self._acceptors.append(acceptor)

    async def _close(self) -> None:
        for each in self._acceptors:
            each.close()
        others = asyncio.all_tasks() - {asyncio.current_task()}
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)


class _Accounts(asyncssh.SSHServer):
    """Who may come in."""

    def __init__(self, guests: dict[str, Guest]) -> None:
        self._guests = guests

    def begin_auth(self, username: str) -> bool:
        """Everybody needs a password."""
        return True

    def password_auth_supported(self) -> bool:
        """By password only."""
        return True

    def validate_password(self, username: str, password: str) -> bool:
        """The account's own."""
        guest = self._guests.get(username)
        return guest is not None and guest.password == password


class _Files(asyncssh.SFTPServer):
    """An account's folder, as far as its rights go."""

    def __init__(self, chan: "asyncssh.SSHServerChannel[Any]", guests: dict[str, Guest]) -> None:
        guest = guests[chan.get_extra_info("username")]
        self._rights = guest.rights
        super().__init__(chan, chroot=str(guest.folder).encode())

    def _needs(self, letter: str) -> None:
        if letter not in self._rights:
            raise asyncssh.SFTPPermissionDenied("not for this account")

    def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        """Reading or writing."""
        self._needs("w" if pflags & _WRITES else "r")
        return super().open(path, pflags, attrs)

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        """Listing."""
        self._needs("l")
        async for each in super().scandir(path):
            yield each

    def remove(self, path: bytes) -> None:
        """Removing a file."""
        self._needs("d")
        super().remove(path)

    def rename(self, oldpath: bytes, newpath: bytes) -> None:
        """Renaming."""
        self._needs("f")
        super().rename(oldpath, newpath)

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        """A new folder."""
        self._needs("m")
        super().mkdir(path, attrs)


def write_host_key(folder: Path) -> tuple[Path, str]:
    """A host key for one lab: its file, and the fingerprint that clients are to see."""
    path, key = folder / "host-key", asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(str(path))
    path.chmod(0o600)
    return path, key.get_fingerprint()


VALID = timedelta(days=1)


def write_self_signed(folder: Path, *names: str) -> tuple[Path, Path]:
    """Write a certificate for these names and addresses, and the same with its key before it.

    Returns the path of the certificate alone (to trust) and of both (to serve, mode 0600).
    """
    key = new_key("ec")
    public = self_signed(key, names, datetime.now(UTC), VALID)
    trusted, served = folder / "certificate.pem", folder / "certificate-and-key.pem"
    trusted.write_bytes(public)
    served.touch(mode=0o600)
    served.write_bytes(key_pem(key) + public)
    return trusted, served
