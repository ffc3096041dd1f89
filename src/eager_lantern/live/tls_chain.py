"""The certificates that a server sends, which the standard library does not hand over before Python 3.13."""

import contextlib

from cryptography.hazmat.primitives.serialization import Encoding
from OpenSSL import SSL

from ..core.tls_facts import Sent
from ..wire.x509 import NotReadable, read_sent
from .channel import Channel
from .failed import Failed
from .session import Session


async def sent_chain(session: Session) -> tuple[Sent, ...]:
    """What comes with the handshake, in its order, on a session that is connected. Raises Failed."""
    if session.plan.security == "explicit":
        await session.greet()
        if (await session.ask("AUTH", "TLS")).code != 234:
            return ()
    shaken = await _shaken(session.wire, session.plan.name)
    found = []
    for each in shaken.get_peer_cert_chain() or ():
        with contextlib.suppress(NotReadable):
            found.append(read_sent(each.to_cryptography().public_bytes(Encoding.DER)))
    return tuple(found)


async def _shaken(channel: Channel, name: str) -> SSL.Connection:
    """A handshake that examines nothing."""
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE)
    tls = SSL.Connection(context, None)
    with contextlib.suppress(UnicodeError):
        tls.set_tlsext_host_name(name.encode("idna"))
    tls.set_connect_state()
    while True:
        try:
            tls.do_handshake()
        except SSL.WantReadError:
            await channel.write(_waiting(tls))
            data = await channel.read()
            if not data:
                raise Failed("wrong", "the server hangs up in the handshake") from None
            tls.bio_write(data)
        except SSL.Error:
            raise Failed("wrong", "the handshake fails") from None
        else:
            return tls


def _waiting(tls: SSL.Connection) -> bytes:
    """What the handshake has to send; nothing where it only waits."""
    with contextlib.suppress(SSL.WantReadError):
        return tls.bio_read(65_536)
    return b""
