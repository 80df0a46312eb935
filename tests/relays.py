"""A relay that wants TLS and a password, and answers as a test wishes; with a certificate made for it."""

from __future__ import annotations

import os
import socket
import ssl
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from openmeadow.services.senders import relay as relay_service
from openmeadow.store import settings
from tests.services.mailing import Mailing, free_port

USER, PASSWORD = "kestrel", "harbour lights"
Answer = Callable[[str], str | None]  # an address or stage: the relay's answer, None for yes


def certificate(folder: Path, host: str = "127.0.0.1") -> tuple[Path, Path]:
    """(certificate, key): signed by itself, for one host."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "relay of the test")])
    now = datetime.now(UTC)
    names: list[x509.GeneralName] = [x509.IPAddress(ip_address(host)) if host[0].isdigit() else x509.DNSName(host)]
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=30))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    paths = folder / f"{host}.pem", folder / f"{host}.key"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    clear = serialization.NoEncryption()
    paths[1].write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL, clear)
    )
    return paths


class RealRelay:
    """``took`` are (recipient, message) in order. ``mail``, ``rcpt`` and ``content`` answer for their stage."""

    def __init__(
        self,
        folder: Path,
        *,
        tls: str = "starttls",
        sign_in: bool = True,
        smtputf8: bool = True,
        host: str = "127.0.0.1",
        port: int = 0,
    ) -> None:
        self.took: list[tuple[str, bytes]] = []
        self.mail: Answer = lambda _: None
        self.rcpt: Answer = lambda _: None
        self.content: Answer = lambda _: None
        self.drop: Callable[[str], str] = lambda _: ""  # "before" or "after" the message is taken, the line breaks
        self.ca, key = certificate(folder, host)
        self.commands: list[str] = []
        self.port = port or free_port()
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(self.ca, key)
        options: dict[str, Any] = {"enable_SMTPUTF8": smtputf8}
        if tls == "starttls":
            options |= {"tls_context": context, "require_starttls": True}
        if sign_in:
            options |= {
                "authenticator": self._authenticate,
                "auth_required": tls == "starttls",
                "auth_require_tls": tls == "starttls",
            }
        relay = self

        class Server(SMTP):
            async def smtp_MAIL(self, arg: str) -> None:  # type: ignore[override]
                relay.commands.append(f"MAIL {arg}")
                if said := relay.mail(arg):
                    await self.push(said)
                else:
                    await super().smtp_MAIL(arg)

        class Made(Controller):
            def factory(self) -> SMTP:
                return Server(relay, hostname="relay.example", **options)

        self._controller = Made(self, hostname="127.0.0.1", port=self.port, ssl_context=context if tls == "tls" else None)
        self._controller._trigger_server = lambda: socket.create_connection(("127.0.0.1", self.port)).close()  # type: ignore
        self._controller.start()

    def _authenticate(self, server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
        right = (data.login.decode(), data.password.decode()) == (USER, PASSWORD)
        return AuthResult(success=right, handled=False)

    async def handle_EHLO(self, server: Any, session: Any, envelope: Any, host: str, responses: list[str]) -> list[str]:
        session.host_name = host
        return [responses[0], "250-PIPELINING", *responses[1:]]

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        if said := self.rcpt(address):
            return said
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 ok"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if said := self.content(envelope.rcpt_tos[0]):
            return said
        breaks = self.drop(envelope.rcpt_tos[0])
        if breaks != "before":
            self.took.append((envelope.rcpt_tos[0], envelope.content))
        if breaks:
            server.transport.close()
        return "250 2.0.0 queued"

    def close(self) -> None:
        if not self._controller.loop.is_closed():
            self._controller.stop()


def use(m: Mailing, real: RealRelay) -> None:
    password = m.workspace.folder / "relay-password"
    password.write_text(PASSWORD + "\n")
    os.environ[relay_service.PASSWORD_FILE] = str(password)
    with m.workspace.store.atomic() as db:
        for name, value in {
            "relay_port": real.port,
            "relay_user": USER,
            "relay_tls": "starttls",
            "relay_ca": str(real.ca),
        }.items():
            settings.set_setting(db, name, value)
