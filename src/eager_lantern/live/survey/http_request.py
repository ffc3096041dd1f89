"""One bounded HTTP request over a connection of the place that a survey is made from."""

import asyncio
from collections.abc import Mapping

import h11

from ...wire.igd import Url
from ..common.channel import Channel
from ..failure import Failed
from ..vantage.base import Vantage

MOST_BYTES = 262_144
SECONDS = 5.0


async def fetched(vantage: Vantage, url: Url, body: bytes = b"", headers: Mapping[str, str] = {}) -> bytes:
    """The body that comes back, of an error as well; a body is sent by POST. Raises OSError, ValueError where it is no
    HTTP or too much, and Failed where it takes too long."""
    try:
        async with asyncio.timeout(SECONDS):
            channel = await Channel.over(await vantage.connect(url.host, url.port))
            try:
                return await _exchanged(channel, url, body, headers)
            finally:
                channel.abort()
    except TimeoutError:
        raise Failed("silent", f"{url.host} port {url.port} does not answer in time") from None
    except h11.ProtocolError as error:
        raise ValueError(f"what {url.host} answers is no HTTP: {error}") from None


async def _exchanged(channel: Channel, url: Url, body: bytes, headers: Mapping[str, str]) -> bytes:
    talk = h11.Connection(h11.CLIENT, max_incomplete_event_size=16_384)
    host = f"[{url.host}]" if ":" in url.host else url.host
    length = {"Content-Length": str(len(body))} if body else {}
    sent = {"Host": f"{host}:{url.port}", "Connection": "close", **length, **headers}
    request = h11.Request(method="POST" if body else "GET", target=url.target, headers=list(sent.items()))
    parts = [talk.send(request), talk.send(h11.Data(body)) if body else b"", talk.send(h11.EndOfMessage())]
    await channel.write(b"".join(each for each in parts if each))
    found = b""
    while True:
        event = talk.next_event()
        if event is h11.NEED_DATA:
            talk.receive_data(await channel.read())
        elif isinstance(event, h11.Data):
            found += event.data
            if len(found) > MOST_BYTES:
                raise ValueError(f"{url.host} answers more than {MOST_BYTES} bytes")
        elif isinstance(event, (h11.EndOfMessage, h11.ConnectionClosed)):
            return found
