"""A domain that signs twice, RSA and Ed25519: from its published record on, until it is stopped."""

from __future__ import annotations

import base64
from pathlib import Path
from types import SimpleNamespace

import dkim
import pytest
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from openmeadow.core.authentication.dkim import record_text
from openmeadow.core.errors import Refused
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.services.senders import domains
from openmeadow.store.campaigns import campaigns
from openmeadow.store.senders import senders
from tests.services.mailing import Mailing, mailing, ready_campaign


class VerifyKey:
    """What dkimpy asks of a library for Ed25519, by the one that is here."""

    def __init__(self, key: bytes, encoder: object = None) -> None:
        self._key = Ed25519PublicKey.from_public_bytes(base64.b64decode(key))

    def verify(self, message: bytes, signature: bytes) -> None:
        self._key.verify(signature, message)


@pytest.fixture(autouse=True)
def _ed25519(monkeypatch: pytest.MonkeyPatch) -> None:
    library = SimpleNamespace(
        signing=SimpleNamespace(VerifyKey=VerifyKey),
        encoding=SimpleNamespace(Base64Encoder=None),
        exceptions=SimpleNamespace(BadSignatureError=InvalidSignature),
    )
    monkeypatch.setattr(dkim, "nacl", library, raising=False)


def signed(m: Mailing, campaign: int) -> dict[str, bool]:
    """The selectors that a campaign's message is signed with, and whether each verifies by its published record."""
    db = m.workspace.store.read()
    row = campaigns.one(db, campaign)
    assert row is not None and row.domain_id is not None
    domain = senders.domain(db, row.domain_id)
    assert domain is not None
    public = {domain.selector: domain.public_key} | {k.selector: k.public_key for k in senders.keys(db, domain.id)}
    lines = {f"{selector}._domainkey.{domain.name}": record_text(p or "") for selector, p in public.items()}
    writer = Writer(m.workspace, row, m.tokens)
    message = writer.composer.message(writer.sample(1, "a@x.example"), m.workspace.now())
    judge = dkim.DKIM(message)
    count = sum(name.lower() == b"dkim-signature" for name, _ in judge.headers)
    out = {}
    for i in range(count):
        ok = dkim.DKIM(message).verify(idx=i, dnsfunc=lambda name, timeout=5: lines[name.decode().rstrip(".")].encode())
        signature = [v for n, v in judge.headers if n.lower() == b"dkim-signature"][i].decode()
        out[signature.partition("s=")[2].partition(";")[0]] = ok
    return out


def test_both_sign_once_the_record_is_found(folder: Path) -> None:
    with mailing(folder, 6) as m:
        campaign = ready_campaign(m.workspace, "Twice")
        domain = senders.domains(m.workspace.store.read())[0].id
        assert list(signed(m, campaign).values()) == [True]
        with pytest.raises(Refused, match="the other kind"):
            domains.make_key(m.workspace, domain, "t", "rsa", beside=True)
        with pytest.raises(Refused, match="no second signature"):
            domains.stop_second_signature(m.workspace, domain, "t")
        domains.make_key(m.workspace, domain, "t", "ed25519", beside=True)
        domains.check(m.workspace, domain)
        (waiting,) = senders.keys(m.workspace.store.read(), domain)
        assert (waiting.state, len(signed(m, campaign))) == ("next", 1), "it does not sign before its record is found"
        domains.publish(m.workspace, domain, "t")
        domains.check(m.workspace, domain)
        (first, second) = signed(m, campaign).items()
        assert first[1] and second == (waiting.selector, True)
        # the first is rotated, the second stays
        domains.make_key(m.workspace, domain, "t")
        domains.publish(m.workspace, domain, "t")
        domains.check(m.workspace, domain)
        now = signed(m, campaign)
        assert all(now.values()) and len(now) == 2 and first[0] not in now and waiting.selector in now
        domains.stop_second_signature(m.workspace, domain, "t")
        assert list(signed(m, campaign)) == [s for s in now if s != waiting.selector]
        assert {k.state for k in senders.keys(m.workspace.store.read(), domain)} == {"old"}, "kept for mail in transit"


def test_the_first_key_cannot_be_a_second(folder: Path) -> None:
    with mailing(folder, 1) as m:
        domain = domains.add_domain(m.workspace, "family.kestrelquay.example", "t")
        with pytest.raises(Refused, match="no key yet"):
            domains.make_key(m.workspace, domain, "t", "ed25519", beside=True)
