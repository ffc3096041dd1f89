"""A server on loopback that says just what a test tells it to, however wrong."""

import contextlib
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator

GREETING = "GREETING"
PLAIN = {
    GREETING: b"220 ready\r\n",
    "USER": b"331 password\r\n",
    "PASS": b"230 in\r\n",
    "TYPE": b"200 ok\r\n",
    "DELE": b"250 gone\r\n",
    "QUIT": b"221 bye\r\n",
    "LIST": b"150 here\r\n",
    "STOR": b"150 send\r\n",
    "RETR": b"150 here\r\n",
}
DONE = b"226 done\r\n"
RESET = b"RESET"
"""In place of an answer: the connection is reset."""


class Scripted:
    """Answers each verb with its bytes; PASV opens a real data port unless the script states otherwise.

    The transfer of the verb that it ``holds`` never ends; ``moving`` is set with its first bytes.
    """

    def __init__(self, script: dict[str, bytes], holds: str = "") -> None:
        self.script = {**PLAIN, **script}
        self.holds = holds
        self.heard: list[str] = []
        self.moving = threading.Event()
        self.replies: dict[str, Callable[[], bytes]] = {}  # verbs whose answer changes
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                threading.Thread(target=self._serve, args=(self._listener.accept()[0],), daemon=True).start()

    def _serve(self, control: socket.socket) -> None:
        data: socket.socket | None = None
        with control, contextlib.suppress(OSError):
            control.sendall(self.script[GREETING])
            for raw in control.makefile("rb"):
                line = raw.decode().strip()
                self.heard.append(line)
                verb = line.split(" ")[0]
                if verb == "PASV" and verb not in self.script:
                    data = socket.create_server(("127.0.0.1", 0))
                    high, low = divmod(data.getsockname()[1], 256)
                    control.sendall(f"227 here (127,0,0,1,{high},{low})\r\n".encode())
                    continue
                changing = self.replies.get(verb)
                answer = changing() if changing else self.script.get(verb, b"502 not here\r\n")
                if answer == RESET:
                    control.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
                    return
                control.sendall(answer)
                if data and self.script.get(verb, b"").startswith(b"150"):
                    if verb == self.holds:
                        self._held = data.accept()[0]
                        if self._held.recv(1):
                            self.moving.set()
                        continue
                    self._transfer(data, verb)
                    control.sendall(DONE)

    def _transfer(self, data: socket.socket, verb: str) -> None:
        peer = data.accept()[0]
        if verb == "STOR":
            self.stored = b"".join(iter(lambda: peer.recv(4096), b""))
        elif verb == "RETR":
            peer.sendall(self.stored)
        peer.close()

    def close(self) -> None:
        self._listener.close()

    def waited_for(self, start: str, seconds: float = 10) -> bool:
        """Whether a command that starts so was heard, waiting for it."""
        limit = time.monotonic() + seconds
        while time.monotonic() < limit:
            if any(each.startswith(start) for each in self.heard):
                return True
            time.sleep(0.02)
        return False


@contextlib.contextmanager
def scripted(script: dict[str, bytes], holds: str = "") -> Iterator[Scripted]:
    server = Scripted(script, holds)
    try:
        yield server
    finally:
        server.close()
