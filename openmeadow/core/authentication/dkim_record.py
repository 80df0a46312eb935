"""DKIM key records (RFC 6376 3.6.1, RFC 8301, RFC 8463), read and judged."""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import load_der_public_key

LEAST_BITS, BETTER_BITS = 1024, 2048  # RFC 8301 3.2
SAME_START = 50  # characters of p=; every RSA key of a length begins alike, so a shared start means little


@dataclass(frozen=True)
class KeyRecord:
    """``problem`` is a sentence where signatures cannot be verified with it, ``advice`` one where they can, but."""

    kind: str
    public: str
    bits: int
    problem: str = ""
    advice: str = ""

    @property
    def words(self) -> str:
        """The kind and length of the key, in words."""
        return f"RSA {self.bits}" if self.kind == "rsa" else "Ed25519"


def tags_of(text: str) -> dict[str, str]:
    """tag=value pairs; of a tag that stands twice the first."""
    out: dict[str, str] = {}
    for part in text.split(";"):
        name, sign, value = part.partition("=")
        if sign:
            out.setdefault(name.strip(), value.strip())
    return out


def read(text: str) -> KeyRecord:
    """One TXT value at a selector."""
    tags = tags_of(text)
    kind, public = tags.get("k", "rsa").lower(), "".join(tags.get("p", "").split())

    def bad(why: str) -> KeyRecord:
        return KeyRecord(kind, public, 0, why)

    if "v" in tags and (tags["v"] != "DKIM1" or not text.lstrip().startswith("v")):
        return bad("its version is not DKIM1, or is not the first tag")
    if "p" not in tags:
        return bad("it has no key (p=)")
    if not public:
        return bad("the key is revoked (empty p=)")
    if kind not in ("rsa", "ed25519"):
        return bad(f"unknown key type {kind}")
    if "h" in tags and "sha256" not in [h.strip().lower() for h in tags["h"].split(":")]:
        return bad("SHA-256 is not allowed")
    if "s" in tags and not {"*", "email"} & {s.strip().lower() for s in tags["s"].split(":")}:
        return bad("the key is not for email (s=)")
    try:
        raw = base64.b64decode(public, validate=True)
        if kind == "ed25519":
            if len(raw) != 32:
                return bad("an Ed25519 key has 32 octets")
            bits = 256
        else:
            key = load_der_public_key(raw)
            if not isinstance(key, rsa.RSAPublicKey):
                return bad("the key is not RSA as declared")
            bits = key.key_size
            if bits < LEAST_BITS:
                return bad(f"RSA {bits} is too short; receivers require at least {LEAST_BITS}")
    except (ValueError, binascii.Error, UnsupportedAlgorithm):
        return bad(f"“{public[:24]}…”, {len(public)} characters, is not a key")
    advice = []
    if "y" in [f.strip().lower() for f in tags.get("t", "").split(":")]:
        advice.append("in test mode (t=y), so receivers may ignore the signature")
    if kind == "rsa" and bits < BETTER_BITS:
        advice.append(f"RSA {bits}, {BETTER_BITS} is recommended")
    return KeyRecord(kind, public, bits, "", "; ".join(advice))


def difference(found: str, expected: str) -> str:
    """Where the ``p=`` value at a selector parts from the one it should have, for a reader who compares two long lines."""
    if expected.startswith(found):
        return f"cut off after {len(found)} of {len(expected)} characters"
    if found.startswith(expected):
        return f"{len(found) - len(expected)} characters too long"
    same = next(i for i, (a, b) in enumerate(zip(found, expected, strict=False)) if a != b)
    if same < SAME_START:
        return "another key altogether"
    return f"other from character {same + 1}: “{found[same : same + 12]}” instead of “{expected[same : same + 12]}”"
