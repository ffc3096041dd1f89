"""An SSH file transfer server on loopback for tests."""

import asyncio
import contextlib
import threading
from collections.abc import Iterator
from pathlib import Path

import asyncssh


class Account(asyncssh.SSHServer):
    """Lets in one password, and remembers what was tried."""

    tries: list[str]
    password: str

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        self.tries.append(password)
        return password == self.password


@contextlib.contextmanager
def ssh_server(folder: Path, password: str, tries: list[str], key: asyncssh.SSHKey) -> Iterator[int]:
    """A running server that shows this host key; its port."""
    account = type("Guest", (Account,), {"tries": tries, "password": password})
    loop = asyncio.new_event_loop()

    class Files(asyncssh.SFTPServer):
        def __init__(self, chan: asyncssh.SSHServerChannel) -> None:
            super().__init__(chan, chroot=str(folder).encode())

    async def listen() -> asyncssh.SSHAcceptor:
        return await asyncssh.listen(
            "127.0.0.1", 0, server_host_keys=[key], server_factory=account, sftp_factory=Files, allow_scp=False
        )

    acceptor = loop.run_until_complete(listen())
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield acceptor.get_port()
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(timeout=5)
