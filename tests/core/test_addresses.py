"""Address verdicts: bad only on proof, risky on signs; slips are suggested, never changed."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.addresses.verdicts import (
    VERDICTS,
    DomainAnswer,
    domain_lookup,
    is_reserved,
    judge,
    mailbox_of,
    slip_of,
)
from tests.core.recorded import drive, zone

KNOWN = ("lanternmail.example", "postern.example", "brinebox.example")


@pytest.mark.parametrize(
    ("address", "verdict", "reason", "suggestion"),
    [
        ("mira@lanternmail.example", "deliverable", "", None),
        ("Mira.Q@Postern.example", "deliverable", "", None),
        ("mira@lanternmial.example", "risky", "typo of lanternmail.example", "mira@lanternmail.example"),
        ("mira@postrn.example", "risky", "typo of postern.example", "mira@postern.example"),
        ("MIRA@bbrinebox.example", "risky", "typo of brinebox.example", "MIRA@brinebox.example"),
        ("info@saltmere.example", "risky", "role address", None),
        ("x@short-lived.test", "risky", "disposable domain", None),
        ("otto@saltmere.internal", "unknown", "not checked", None),
        ("mira@", "undeliverable", "no dot", None),
        ("mira", "undeliverable", "@", None),
        ("a b@postern.example", "undeliverable", "", None),
        ("m" * 65 + "@postern.example", "undeliverable", "64 octets", None),
        ("gone@postern.example", "undeliverable", "hard bounced", None),
    ],
)
def test_verdicts(address: str, verdict: str, reason: str, suggestion: str | None) -> None:
    found = judge(address, KNOWN, bounced={"gone@postern.example"})
    assert (found.verdict, found.suggestion) == (verdict, suggestion), found
    assert reason in " ".join(found.reasons) and found.verdict in VERDICTS


def test_what_the_domain_answers_decides() -> None:
    assert judge("otto@saltmere.internal", KNOWN, domain=DomainAnswer(True)).verdict == "deliverable"
    nowhere = judge("otto@lanternmai.example", KNOWN, domain=DomainAnswer(False, (), "lanternmai.example takes no mail"))
    assert (nowhere.verdict, nowhere.suggestion) == ("undeliverable", "otto@lanternmail.example"), (
        "bad, and probably meant"
    )
    assert judge("otto@saltmere.internal", KNOWN).verdict == "unknown", "not asked is not no"


slips = st.sampled_from(KNOWN).flatmap(
    lambda d: st.tuples(
        st.just(d), st.integers(0, len(d) - 9), st.sampled_from(["leave out", "put in", "change", "swap"])
    )
)


@given(slips)
def test_one_slip_of_any_kind_is_found(slip: tuple[str, int, str]) -> None:
    domain, at, kind = slip
    typed = {
        "leave out": domain[:at] + domain[at + 1 :],
        "put in": domain[:at] + "q" + domain[at:],
        "change": domain[:at] + "q" + domain[at + 1 :],
        "swap": domain[:at] + domain[at + 1] + domain[at] + domain[at + 2 :],
    }[kind]
    assert slip_of(typed, KNOWN) == (None if typed == domain else domain)


@given(st.sampled_from(KNOWN), st.integers(0, 6), st.integers(0, 6))
def test_two_changes_are_no_slip(domain: str, a: int, b: int) -> None:
    if abs(a - b) < 2:
        return
    typed = "".join("q" if i in (a, b) else c for i, c in enumerate(domain))
    assert slip_of(typed, KNOWN) is None


def test_reserved_domains() -> None:
    assert [is_reserved(d) for d in ("x.test", "kestrelquay.example", "example.com", "example.org.uk", "test.net")] == [
        True,
        True,
        True,
        False,
        False,
    ]


@pytest.mark.parametrize(
    ("lines", "takes", "why"),
    [
        ("d MX m.d\nm.d A 192.0.2.1", True, ""),
        ("d MX m.d\nm.d A\nm.d AAAA 2001:db8::1", True, ""),
        ("d MX m.d\nm.d A\nm.d AAAA", False, "do not exist"),
        ("d MX\nd A 192.0.2.1", True, ""),
        ("d MX\nd A\nd AAAA", False, "does not accept mail"),
        ("d MX ?", None, "could not be looked up"),
        ("d MX m.d\nm.d A ?", None, "could not be looked up"),
    ],
)
def test_whether_a_domain_takes_mail(lines: str, takes: bool | None, why: str) -> None:
    found = drive(domain_lookup("d"), zone(lines))
    assert found.takes_mail is takes and why in found.why


def test_a_null_mx_says_no() -> None:
    assert "null MX" in drive(domain_lookup("d"), {("d", "MX"): [""]}).why


@pytest.mark.parametrize(
    ("code", "text", "answer", "verdict"),
    [
        (250, "2.1.5 fine", "yes", "deliverable"),
        (550, "5.1.1 no such user", "no", "undeliverable"),
        (552, "5.2.2 mailbox full", "full", "risky"),
        (452, "4.2.2 over quota", "full", "risky"),
        (450, "4.7.1 greylisted", "greylisted", "unknown"),
        (550, "5.7.1 policy", "no clear response", "unknown"),
        (252, "cannot verify", "no clear response", "unknown"),
    ],
)
def test_what_a_mail_host_says(code: int, text: str, answer: str, verdict: str) -> None:
    assert mailbox_of(code, text) == answer
    assert judge("mira@saltmere.internal", KNOWN, domain=DomainAnswer(True), mailbox=answer).verdict == verdict
    assert (
        judge("mira@saltmere.internal", KNOWN, domain=DomainAnswer(True), mailbox="accepts everything").verdict == "risky"
    )
