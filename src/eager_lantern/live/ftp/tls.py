"""A close look at TLS, on connections of its own that never log in: chain, versions, ciphers."""

import contextlib
import ssl
import time
import warnings
from collections.abc import Awaitable, Callable
from dataclasses import replace
from typing import TypeVar

from cryptography.hazmat.primitives.serialization import Encoding
from OpenSSL import SSL

from ...core.observed.looks import Certificate, Sent, TlsFacts
from ...wire.ftp import ProtocolFault
from ...wire.x509 import NotReadable, read_certificate, read_sent
from ..common.channel import Channel, timed
from ..common.visit_plan import VisitPlan
from ..vantage.base import Failed
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
    """Whether a client that knows none but TLS 1.0 and 1.1 gets through. Raises Failed where it is unknown."""
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
            await channel.write(_outgoing(tls))
            data = await channel.read()
            if not data:
                raise Failed("wrong", "the server hangs up in the handshake") from None
            tls.bio_write(data)
        except SSL.Error:
            raise Failed("wrong", "the handshake fails") from None
        else:
            return tls


def _outgoing(tls: SSL.Connection) -> bytes:
    """What the handshake has to send; nothing where it only waits."""
    with contextlib.suppress(SSL.WantReadError):
        return tls.bio_read(65_536)
    return b""


Seen = TypeVar("Seen")
FAULTS = (Failed, ProtocolFault, OSError, ssl.SSLError)


async def tls_facts(plan: VisitPlan, address: str, session: Session) -> TlsFacts | None:
    """What TLS does on a server; ``session`` is the one that has logged in, which knows of its data
    connections. None where no TLS comes about at all."""
    anyhow = replace(plan, security=replace(plan.security, any_certificate=True))
    seen = await _look_at(address, anyhow, _handshake)
    if seen is None:
        return None
    version, cipher, certificate = seen
    strictly = replace(plan, security=replace(plan.security, any_certificate=False))
    distrust = await _look_at(address, strictly, _trusted)
    in_clear = None
    if plan.security.mode == "explicit":
        in_clear = await _look_at(address, replace(plan, security=replace(plan.security, mode="none")), _asks_in_clear)
    return TlsFacts(
        at=time.time(),
        typed=plan.target.name,
        version=version,
        cipher=cipher,
        certificate=certificate,
        distrust="nothing is known of its chain" if distrust is None else distrust,
        login_in_clear=in_clear,
        data_protected=session.data_protected,
        resumes=session.data_resumed,
        demands_resuming=session.demands_resuming,
        chain=await _look_at(address, plan, sent_chain) or (),
        takes_old=await _look_at(address, plan, takes_old_versions),
    )


async def _look_at(address: str, changed: VisitPlan, look: Callable[[Session], Awaitable[Seen]]) -> Seen | None:
    """What a look finds on a connection of its own; None where the network or the server fails it."""
    session = Session(changed)

    async def looked() -> Seen:
        await session.connect(address)
        return await look(session)

    try:
        return await timed(changed.limits.timeout, looked())
    except FAULTS:
        return None
    finally:
        await session.leave()


async def _begun(session: Session) -> None:
    """TLS on the control connection, with the greeting before or after it."""
    if session.plan.security.mode == "explicit":
        await session.greet()
    await session.secure()


async def _handshake(session: Session) -> tuple[str, str, Certificate | None]:
    await _begun(session)
    tls = session.wire.tls
    assert tls is not None
    certificate = None
    with contextlib.suppress(NotReadable):
        certificate = read_certificate(tls.getpeercert(binary_form=True) or b"")
    cipher = tls.cipher()
    return tls.version() or "unknown", cipher[0] if cipher else "unknown", certificate


async def _trusted(session: Session) -> str:
    """Why this machine does not trust the certificate, or nothing."""
    try:
        await _begun(session)
    except Failed as failed:
        if failed.outcome != "wrong":
            raise
        return failed.detail
    return ""


async def _asks_in_clear(session: Session) -> bool:
    """Whether a user name without TLS is asked for its password, which is never sent."""
    await session.greet()
    return (await session.ask("USER", session.plan.credentials.user)).kind in (2, 3)
