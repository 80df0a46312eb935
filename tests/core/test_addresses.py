"""Address verdicts: bad only on proof, risky on signs; slips are suggested, never changed."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.addresses.verdicts import VERDICTS, is_reserved, judge, slip_of

KNOWN = ("lanternmail.example", "postern.example", "brinebox.example")


@pytest.mark.parametrize(
    ("address", "verdict", "reason", "suggestion"),
    [
        ("mira@lanternmail.example", "good", "", None),
        ("Mira.Q@Postern.example", "good", "", None),
        ("mira@lanternmial.example", "risky", "slip for lanternmail.example", "mira@lanternmail.example"),
        ("mira@postrn.example", "risky", "slip for postern.example", "mira@postern.example"),
        ("MIRA@bbrinebox.example", "risky", "slip for brinebox.example", "MIRA@brinebox.example"),
        ("info@saltmere.example", "risky", "read by a role", None),
        ("x@mailinator.com", "risky", "throw-away", None),
        ("otto@saltmere.net", "unknown", "was not asked", None),
        ("mira@", "bad", "no dot", None),
        ("mira", "bad", "@", None),
        ("a b@postern.example", "bad", "", None),
        ("m" * 65 + "@postern.example", "bad", "64 octets", None),
        ("gone@postern.example", "bad", "bounced for good", None),
    ],
)
def test_verdicts(address: str, verdict: str, reason: str, suggestion: str | None) -> None:
    found = judge(address, KNOWN, bounced={"gone@postern.example"})
    assert (found.verdict, found.suggestion) == (verdict, suggestion), found
    assert reason in " ".join(found.reasons) and found.verdict in VERDICTS


def test_what_the_domain_answers_decides() -> None:
    assert judge("otto@saltmere.net", KNOWN, domain_takes_mail=True).verdict == "good"
    nowhere = judge("otto@lanternmai.example", KNOWN, domain_takes_mail=False)
    assert (nowhere.verdict, nowhere.suggestion) == ("bad", "otto@lanternmail.example"), "bad, and probably meant"
    assert judge("otto@saltmere.net", KNOWN).verdict == "unknown", "not asked is not no"


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
