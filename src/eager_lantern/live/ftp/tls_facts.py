"""A close look at TLS, on connections of its own that never log in."""

import contextlib
import ssl
import time
from collections.abc import Awaitable, Callable
from dataclasses import replace
from typing import TypeVar

from ...core.observed.certificate import Certificate
from ...core.observed.tls_facts import TlsFacts
from ...wire.reply import ProtocolFault
from ...wire.x509 import NotReadable, read_certificate
from ..common.io import timed
from ..common.visit_plan import VisitPlan
from ..failure import Failed
from .session import Session
from .tls_chain import sent_chain, takes_old_versions

Seen = TypeVar("Seen")
FAULTS = (Failed, ProtocolFault, OSError, ssl.SSLError)


async def tls_facts(plan: VisitPlan, address: str, session: Session) -> TlsFacts | None:
    """What TLS does on a server; ``session`` is the one that has logged in, which knows of its data
    connections. None where no TLS comes about at all."""
    anyhow = replace(plan, security=replace(plan.security, any_certificate=True))
    seen = await _tried(address, anyhow, _handshake)
    if seen is None:
        return None
    version, cipher, certificate = seen
    strictly = replace(plan, security=replace(plan.security, any_certificate=False))
    distrust = await _tried(address, strictly, _trusted)
    in_clear = None
    if plan.security.mode == "explicit":
        in_clear = await _tried(address, replace(plan, security=replace(plan.security, mode="none")), _asks_in_clear)
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
        chain=await _tried(address, plan, sent_chain) or (),
        takes_old=await _tried(address, plan, takes_old_versions),
    )


async def _tried(address: str, changed: VisitPlan, look: Callable[[Session], Awaitable[Seen]]) -> Seen | None:
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
