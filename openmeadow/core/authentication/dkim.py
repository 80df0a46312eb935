"""DKIM: keys and relaxed/relaxed signatures (RFC 6376, RSA-SHA256; RFC 8463, Ed25519).

Signing is here and not in a library because the pure-Python RSA of the common one takes fifteen times as long.
"""

from __future__ import annotations

import base64
import hashlib
import re
from dataclasses import dataclass

from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ed25519, padding, rsa

SIGNED = (
    "From",
    "To",
    "Subject",
    "Reply-To",
    "Date",
    "Message-ID",
    "MIME-Version",
    "Content-Type",
    "List-Unsubscribe",
    "List-Unsubscribe-Post",
    "List-Id",
    "Feedback-ID",
)
RSA_BITS = 2048  # RFC 8301: at least 1024, 2048 recommended


@dataclass(frozen=True)
class KeyPair:
    """PEM of the private key; ``public`` is the ``p=`` value."""

    private: str
    public: str


def new_key(kind: str = "rsa") -> KeyPair:
    """A fresh key: ``rsa`` (2048 bits) or ``ed25519``."""
    key = ed25519.Ed25519PrivateKey.generate() if kind == "ed25519" else rsa.generate_private_key(65537, RSA_BITS)
    pem = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ).decode()
    encoding, form = (
        (serialization.Encoding.Raw, serialization.PublicFormat.Raw)
        if kind == "ed25519"
        else (serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    )
    return KeyPair(pem, base64.b64encode(key.public_key().public_bytes(encoding, form)).decode())


def kind_of(public: str) -> str:
    """The kind of a ``p=`` value: a raw Ed25519 key has 32 octets, RSA's DER many more."""
    return "ed25519" if len(base64.b64decode(public)) == 32 else "rsa"


def record_text(public: str) -> str:
    """The TXT value to publish."""
    return f"v=DKIM1; k={kind_of(public)}; p={public}"


def _relaxed_header(name: str, value: str) -> str:
    unfolded = _BLANK.sub(" ", value.replace("\r\n", ""))
    return f"{name.lower().strip()}:{unfolded.strip()}"


def _fields(head: str) -> dict[str, str]:
    """The header fields as they are written, by name in small letters; the last of a name counts (RFC 5322 2.2.3)."""
    out: dict[str, str] = {}
    name = ""
    for line in head.split("\r\n"):
        if line[:1] in (" ", "\t"):
            if name:
                out[name] += f"\r\n{line}"
            continue
        word, colon, value = line.partition(":")
        name = word.strip().lower() if colon else ""
        if name:
            out[name] = value
    return out


_BLANK = re.compile(r"[ \t]+")
_BLANKS = re.compile(rb"[ \t]+")


def _relaxed_body(body: bytes) -> bytes:
    if b"  " in body or b"\t" in body:
        body = _BLANKS.sub(b" ", body)
    text = body.replace(b" \r\n", b"\r\n").rstrip(b" \r\n")
    return text + b"\r\n" if text else b""


class Signer:
    """Signs messages for one domain and selector."""

    def __init__(self, domain: str, selector: str, private_pem: str) -> None:
        self.domain, self.selector = domain, selector
        key = serialization.load_pem_private_key(private_pem.encode(), None)
        if not isinstance(key, rsa.RSAPrivateKey | ed25519.Ed25519PrivateKey):
            raise ValueError("DKIM signs with RSA or Ed25519")
        self._key = key
        self._algorithm = "rsa-sha256" if isinstance(key, rsa.RSAPrivateKey) else "ed25519-sha256"

    def header(self, message: bytes, at: int) -> bytes:
        """The DKIM-Signature line (with CRLF) to put before the message; the message uses CRLF."""
        head, _, body = message.partition(b"\r\n\r\n")
        present = _fields(head.decode("latin-1"))
        names = [n for n in SIGNED if n.lower() in present]
        body_hash = base64.b64encode(hashlib.sha256(_relaxed_body(body)).digest()).decode()
        value = (
            f"v=1; a={self._algorithm}; c=relaxed/relaxed; d={self.domain}; s={self.selector};\r\n"
            f" t={at}; h={':'.join(names)};\r\n bh={body_hash};\r\n b="
        )
        text = "\r\n".join(
            [*(_relaxed_header(n, present[n.lower()]) for n in names), _relaxed_header("DKIM-Signature", value)]
        ).encode("latin-1")
        if isinstance(self._key, rsa.RSAPrivateKey):
            raw = self._key.sign(text, padding.PKCS1v15(), hashes.SHA256())
        else:
            raw = self._key.sign(hashlib.sha256(text).digest())
        signature = base64.b64encode(raw).decode()
        folded = "\r\n  ".join(signature[i : i + 70] for i in range(0, len(signature), 70))
        return f"DKIM-Signature: {value}{folded}\r\n".encode("latin-1")


def sign(message: bytes, domain: str, selector: str | None, private_pem: str | None, at: int) -> bytes:
    """The message with the signature of a domain before it; unchanged where the domain has no key yet."""
    if not selector or not private_pem:
        return message
    return Signer(domain, selector, private_pem).header(message, at) + message
