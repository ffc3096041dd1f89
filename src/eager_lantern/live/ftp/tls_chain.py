"""The certificates that a server sends, which the standard library cannot tell before Python 3.13, and whether it still
takes versions of TLS that are not to be used."""

import contextlib
import ssl
import warnings

from cryptography.hazmat.primitives.serialization import Encoding
from OpenSSL import SSL

from ...core.observed.tls_facts import Sent
from ...wire.x509 import NotReadable, read_sent
from ..common.channel import Channel
from ..failure import Failed
from .session import Session


async def sent_chain(session: Session) -> tuple[Sent, ...]:
    """What comes with the handshake, in its order, on a session that is connected. Raises Failed."""
    await _asked_for(session)
    shaken = await _shaken(session.wire, session.plan.target.name, SSL.Context(SSL.TLS_CLIENT_METHOD))
    found = []
    for each in shaken.get_peer_cert_chain() or ():
        with contextlib.suppress(NotReadable):
            found.append(read_sent(each.to_cryptography().public_bytes(Encoding.DER)))
    return tuple(found)


async def takes_old_versions(session: Session) -> bool:
    """Whether a client that knows none but TLS 1.0 and 1.1 gets through. Raises Failed where it cannot be told."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # that they are old is what is asked about
        context.minimum_version, context.maximum_version = ssl.TLSVersion.TLSv1, ssl.TLSVersion.TLSv1_1
    context.set_ciphers("ALL:@SECLEVEL=0")  # else this end would not offer them
    await _asked_for(session)
    try:
        await session.wire.start_tls(context, session.plan.target.name)
    except (ssl.SSLError, EOFError):
        return False
    return True


async def _asked_for(session: Session) -> None:
    """Up to where TLS begins on a control connection that is new. Raises Failed."""
    if session.plan.security.mode == "explicit":
        await session.greet()
        await session.ask_for_tls()


async def _shaken(channel: Channel, name: str, context: SSL.Context) -> SSL.Connection:
    """A handshake that examines nothing."""
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
