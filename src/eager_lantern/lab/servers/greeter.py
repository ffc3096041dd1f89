"""A port that says one line to whoever connects, and hangs up."""

import contextlib
import socket
import threading
from collections.abc import Iterator


@contextlib.contextmanager
def greeter(address: str, port: int, line: str) -> Iterator[None]:
    """Answer on a port until the context ends. Raises OSError where the port is taken."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    server = socket.create_server((address, port), family=family)
    thread = threading.Thread(target=_answer, args=(server, line), daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.shutdown(socket.SHUT_RDWR)
        server.close()
        thread.join(timeout=5)


def _answer(server: socket.socket, line: str) -> None:
    with contextlib.suppress(OSError):  # the server is closed
        while True:
            caller, _ = server.accept()
            with caller, contextlib.suppress(OSError):
                caller.sendall(line.encode())
