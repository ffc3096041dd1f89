"""What asyncssh asks of a visit on the way in."""

import time

import asyncssh

from ..common.visit_plan import VisitPlan


class SshClient(asyncssh.SSHClient):
    """Is this the host, and what is the password: answered once."""

    def __init__(self, plan: VisitPlan) -> None:
        self.plan = plan
        self.version = ""
        self.key = ""
        self.key_fits = False
        self.kind, self.fingerprint, self.bits = "", "", 0
        self.asked_at = 0.0
        self.asked = False
        self._connection: asyncssh.SSHClientConnection | None = None

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        """TCP stands."""
        self._connection = conn

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """The server has shown its host key."""
        assert self._connection is not None
        self.version = str(self._connection.get_extra_info("server_version", ""))
        self.kind, self.fingerprint = key.get_algorithm(), key.get_fingerprint()
        self.bits = getattr(key.pyca_key, "key_size", 0)
        self.key = f"{self.kind} {self.fingerprint}"
        self.key_fits = self.plan.security.any_certificate or self.fingerprint == self.plan.security.host_key
        return self.key_fits

    def password_auth_requested(self) -> str | None:
        """The server takes passwords; it gets one, once."""
        if self.asked or self.plan.credentials.gate.shut:
            return None
        self.asked = True
        self.asked_at = time.perf_counter()
        return self.plan.credentials.password.reveal()
