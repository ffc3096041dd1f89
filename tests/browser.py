"""A headless Chromium, steered over a pipe (the Chrome DevTools Protocol), as somebody who holds a phone."""

import base64
import contextlib
import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Self

import pytest

CHROMIUM = next(filter(None, map(shutil.which, ("chromium", "chromium-browser", "google-chrome"))), None)
needs_chromium = pytest.mark.skipif(CHROMIUM is None, reason="chromium is missing: install the package chromium")
PATIENCE = 120.0
OPTIONS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-first-run", "--hide-scrollbars",
    "--disable-background-networking", "--disable-component-update", "--disable-sync", "--remote-debugging-pipe",
)  # fmt: skip


class Browser:
    """One window; ``before`` are words that run it somewhere else, as in another network namespace."""

    def __init__(self, profile: Path, before: Sequence[str] = (), size: tuple[int, int] = (390, 844)) -> None:
        asks, self._to = os.pipe()
        self._from, tells = os.pipe()
        assert CHROMIUM is not None
        shell = 'exec "$@" 3<&"$ASKS" 4>&"$TELLS"'
        words = [*before, "bash", "-c", shell, "chromium", CHROMIUM, *OPTIONS]
        words += [f"--user-data-dir={profile}", f"--window-size={size[0]},{size[1]}", "about:blank"]
        self._process = subprocess.Popen(
            words, pass_fds=(asks, tells), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            env={**os.environ, "ASKS": str(asks), "TELLS": str(tells)}, start_new_session=True,
        )  # fmt: skip
        os.close(asks)
        os.close(tells)
        self._number, self._left, self._session = 0, b"", ""

    def __enter__(self) -> Self:
        pages = self.do("Target.getTargets")["targetInfos"]
        target = next(each["targetId"] for each in pages if each["type"] == "page")
        self._session = self.do("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        self.do("Page.enable")
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(OSError):
            os.close(self._to)
        os.close(self._from)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._process.pid, signal.SIGKILL)
        self._process.wait()

    def _messages(self) -> Iterator[dict[str, Any]]:
        while True:
            while b"\0" not in self._left:
                data = os.read(self._from, 1 << 20)
                if not data:
                    raise EOFError("the browser has ended")
                self._left += data
            one, _, self._left = self._left.partition(b"\0")
            yield json.loads(one)

    def do(self, method: str, **params: Any) -> dict[str, Any]:
        """A command of the protocol, and its result."""
        self._number += 1
        message: dict[str, Any] = {"id": self._number, "method": method, "params": params}
        if self._session:
            message["sessionId"] = self._session
        os.write(self._to, json.dumps(message).encode() + b"\0")
        for found in self._messages():
            if found.get("id") == self._number:
                if "error" in found:
                    raise RuntimeError(f"{method}: {found['error']['message']}")
                result: dict[str, Any] = found["result"]
                return result
        raise AssertionError

    def opens(self, address: str) -> bool:
        """Whether a page comes up at an address."""
        if self.do("Page.navigate", url=address).get("errorText"):
            return False
        self.waits("document.readyState === 'complete'")
        return True

    def value(self, script: str) -> Any:
        """What an expression comes to on the page."""
        found = self.do("Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True)
        if "exceptionDetails" in found:
            raise RuntimeError(found["exceptionDetails"]["exception"].get("description", "it failed"))
        return found["result"].get("value")

    def waits(self, script: str) -> None:
        """Until an expression is true on the page."""
        end = time.monotonic() + PATIENCE
        while not self.value(f"Boolean({script})"):
            assert time.monotonic() < end, f"waited for {script}"
            time.sleep(0.1)

    def picture(self, path: Path, dark: bool = False) -> None:
        """What it shows, in full length."""
        scheme = {"name": "prefers-color-scheme", "value": "dark" if dark else "light"}
        self.do("Emulation.setEmulatedMedia", features=[scheme])
        found = self.do("Page.captureScreenshot", captureBeyondViewport=True)
        path.write_bytes(base64.b64decode(found["data"]))
