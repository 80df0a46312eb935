"""Sending domains record by record, from recorded answers: DKIM, DMARC, SPF's advice, hosts, block lists."""

from __future__ import annotations

import base64

import pytest
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa

from openmeadow.core.authentication import dkim_record, dmarc, hosts, records
from openmeadow.core.authentication.dkim import new_key, record_text
from openmeadow.core.authentication.findings import RecordFinding, overall, txt_line
from tests.core.recorded import drive, zone

KEY, ED25519 = new_key(), base64.b64encode(bytes(range(32))).decode()
N = "n.q.example"
FACTS = records.SenderFacts(N, "tok", (records.Key("m1", KEY.public),), ("192.0.2.25",), f"bounce.{N}")


def short_key(bits: int) -> str:
    der = (
        rsa.generate_private_key(65537, bits)
        .public_key()
        .public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    )
    return "p=" + base64.b64encode(der).decode()


@pytest.mark.parametrize(
    ("text", "problem", "advice"),
    [
        (record_text(KEY.public), "", ""),
        (record_text(ED25519), "", ""),
        ("p=" + KEY.public, "", ""),
        (record_text(KEY.public) + "; t=s:y", "", "test mode"),
        (short_key(1024), "", "RSA 1024"),
        ("v=DKIM1; p=", "revoked", ""),
        ("v=DKIM1", "no key", ""),
        ("v=DKIM2; p=" + KEY.public, "not DKIM1", ""),
        ("k=rsa; v=DKIM1; p=" + KEY.public, "not the first tag", ""),
        ("k=dsa; p=AAAA", "unknown key type dsa", ""),
        ("h=sha1; p=" + KEY.public, "SHA-256 is not allowed", ""),
        ("s=tlsrpt; p=" + KEY.public, "not for email", ""),
        ("p=AAAA", "is not a key", ""),
        ("p=@@@", "is not a key", ""),
        ("k=ed25519; p=AAAA", "32 octets", ""),
        ("p=" + KEY.public[:-20], "is not a key", ""),
    ],
)
def test_key_records(text: str, problem: str, advice: str) -> None:
    found = dkim_record.read(text)
    assert problem in found.problem and bool(problem) is bool(found.problem)
    assert advice in found.advice and bool(advice) is bool(found.advice)


DK = f"m1._domainkey.{N} TXT "


@pytest.mark.parametrize(
    ("lines", "state", "words"),
    [
        (DK + record_text(KEY.public), "pass", "RSA 2048"),
        (DK + record_text(KEY.public) + "; t=y", "warning", "test mode"),
        (DK + record_text(ED25519), "fail", "another key"),
        (DK + record_text(KEY.public)[:250], "fail", f"cut off after 232 of {len(KEY.public)} characters"),
        (DK + record_text(KEY.public) + "A", "fail", "1 characters too long"),
        (
            DK + record_text(KEY.public).replace(KEY.public[99:], "!" + KEY.public[100:]),
            "fail",
            "other from character 100: “!",
        ),
        (DK + "v=DKIM1; p=\n" + DK + "v=DKIM1; p=", "fail", "2 TXT"),
        (DK, "fail", "no TXT"),
        (DK + "?", "unknown", "no reply"),
    ],
)
def test_selectors(lines: str, state: str, words: str) -> None:
    found = drive(records.signing_key(FACTS, FACTS.keys[0]), zone(lines))
    assert (found.state, bool(found.publish)) == (state, state != "pass") and words in found.found


HERE, UP = f"_dmarc.{N} TXT ", "_dmarc.q.example TXT "


@pytest.mark.parametrize(
    ("lines", "state", "words"),
    [
        (HERE + "v=DMARC1; p=none; rua=mailto:d@q.example", "pass", "move to p=quarantine"),
        (HERE + "v=DMARC1;p=quarantine;pct=20;rua=mailto:d@q.example!10m", "pass", "20% of failing mail"),
        (HERE + "v=DMARC1; p=reject; sp=none; rua=mailto:d@q.example", "pass", "sp=none"),
        (HERE + "\n" + UP + "v=DMARC1; p=reject", "warning", "no reports"),
        (HERE + "v=DMARC1; p=none\n" + HERE + "v=DMARC1; p=none", "fail", "none counts"),
        (HERE + "\n" + UP, "fail", "Publish the record"),
        (HERE + "?", "unknown", "the result is unknown"),
        (HERE + "v=DMARC1", "fail", "no valid policy"),
        (HERE + "v=DMARC1; p=blok; rua=mailto:d@q.example", "warning", "move to p=quarantine."),
        (HERE + "v=DMARC1; p=none; pct=200; rua=mailto:d@q.example", "warning", "0 to 100"),
        (HERE + "v=DMARC1; p=none; rua=d@q.example", "warning", "mailto:"),
        (
            HERE + "v=DMARC1; p=none; rua=mailto:a@r.example\nn.q.example._report._dmarc.r.example TXT",
            "warning",
            "has not agreed",
        ),
        (
            HERE + "v=DMARC1; p=none; rua=mailto:a@r.example\nn.q.example._report._dmarc.r.example TXT v=DMARC1",
            "pass",
            "Monitoring only",
        ),
        (HERE + "v=DMARC10; p=none\n" + UP + "spf words", "fail", "Publish the record"),
    ],
)
def test_policies(lines: str, state: str, words: str) -> None:
    found = drive(records.policy(FACTS), zone(lines))
    assert found.state == state and words in found.meaning, found


@pytest.mark.parametrize(
    ("one", "other", "relaxed", "strict"),
    [
        ("news.q.example", "bounce.news.q.example", True, False),
        ("Q.example", "q.example.", True, True),
        ("a.co.uk", "b.co.uk", False, False),
        ("x.a.co.uk", "a.co.uk", True, False),
    ],
)
def test_alignment(one: str, other: str, relaxed: bool, strict: bool) -> None:
    assert (dmarc.aligned(one, other), dmarc.aligned(one, other, strict=True)) == (relaxed, strict)


RETURN = "bounce.n.q.example"


@pytest.mark.parametrize(
    ("text", "state", "words"),
    [
        ("v=spf1 ip4:192.0.2.25 -all", "pass", "allowed to send"),
        ("v=spf1 -all", "fail", "not trust"),
        ("words", "fail", "publishes no SPF"),
        ("v=spf1 +all", "warning", "any server"),
        ("v=spf1 ip4:192.0.2.25", "warning", "no default"),
        ("v=spf1 ip4:192.0.2.25 ptr -all", "warning", "ptr"),
        ("v=spf1 ip4:192.0.2.25" + " a:h.example" * 9 + " -all", "warning", "9 lookups, near the limit"),
        ("v=spf1 ip4:192.0.2.25" + " a:h.example" * 11 + " -all", "warning", "over the limit"),
        ("?", "unknown", "the result is unknown"),
    ],
)
def test_spf_of_the_return_path(text: str, state: str, words: str) -> None:
    finding, seen = drive(records.sender_policy(FACTS), zone(f"{RETURN} TXT {text}"))
    assert finding.state == state and words in finding.meaning, finding
    assert seen.most == sum(c.lookups for c in seen.costs)


NAME = "25.2.0.192.bl.example"
TESTS = "2.0.0.127.bl.example A 127.0.0.2\n1.0.0.127.bl.example A\n"


@pytest.mark.parametrize(
    ("question", "lines", "state", "words"),
    [
        (hosts.ownership(N, "tok"), f"_meadow.{N} TXT meadow=tok", "pass", "contains your token"),
        (hosts.ownership(N, "tok"), f"_meadow.{N} TXT meadow=x", "fail", "says meadow=x"),
        (hosts.return_path(N, RETURN), f"{RETURN} MX m.q.example\nm.q.example A 192.0.2.1", "pass", "m.q.example"),
        (
            hosts.return_path(N, "b.r.example"),
            "b.r.example MX m.r.example\nm.r.example A 192.0.2.1",
            "warning",
            "m.r.example",
        ),
        (hosts.return_path(N, RETURN), f"{RETURN} MX", "warning", "no MX"),
        (hosts.return_path(N, RETURN), f"{RETURN} MX ?", "unknown", "no reply"),
        (hosts.return_path(N, RETURN), f"{RETURN} MX m.q.example\nm.q.example A\nm.q.example AAAA", "fail", "no address"),
        (hosts.reverse_dns("192.0.2.25", N), "192.0.2.25 PTR m.q.example\nm.q.example A 192.0.2.25", "pass", "m.q"),
        (
            hosts.reverse_dns("192.0.2.25", N),
            f"192.0.2.25 PTR m.q.example\nm.q.example A 192.0.2.9\nmail.{N} A ?",
            "fail",
            "does not resolve back",
        ),
        (hosts.reverse_dns("192.0.2.25", N), "192.0.2.25 PTR m.q.example\nm.q.example A ?", "unknown", "did not reply"),
        (hosts.reverse_dns("192.0.2.25", N), f"192.0.2.25 PTR\nmail.{N} A", "fail", f"mail.{N}. 3600 IN A 192.0.2.25"),
        (hosts.reverse_dns("192.0.2.25", N), f"192.0.2.25 PTR\nmail.{N} A 192.0.2.25", "fail", "reject mail from it.|"),
        (hosts.tracking_host("go.q.example", N), "go.q.example CNAME app.q.example", "pass", "CNAME"),
        (hosts.tracking_host("go.r.example", N), "go.r.example CNAME\ngo.r.example A 192.0.2.1", "warning", "go.r"),
        (hosts.tracking_host("192.0.2.1", N), "x A", "warning", "bare address"),
        (
            hosts.tracking_host("go.q.example", N),
            "go.q.example CNAME\ngo.q.example A\ngo.q.example AAAA",
            "fail",
            "exist",
        ),
        (hosts.block_list("192.0.2.25", "bl.example"), TESTS + f"{NAME} A", "pass", "not listed"),
        (
            hosts.block_list("192.0.2.25", "bl.example"),
            TESTS + f"{NAME} A 127.0.0.4\n{NAME} TXT spam trap",
            "fail",
            "spam trap",
        ),
        (hosts.block_list("192.0.2.25", "bl.example"), TESTS + f"{NAME} A 198.51.100.1", "pass", "not listed"),
        (hosts.block_list("192.0.2.25", "bl.example"), TESTS + f"{NAME} A ?", "unknown", "no reply"),
        (
            hosts.block_list("192.0.2.25", "bl.example"),
            "2.0.0.127.bl.example A\n1.0.0.127.bl.example A",
            "unknown",
            "5782",
        ),
    ],
)
def test_what_stands_around(question: object, lines: str, state: str, words: str) -> None:
    found = drive(question, zone(lines))  # type: ignore[arg-type]
    assert isinstance(found, RecordFinding)
    assert found.state == state and words in f"{found.found}, {found.meaning}|", found


def test_a_whole_look() -> None:
    answers = zone(
        f"_meadow.{N} TXT meadow=tok\n{RETURN} TXT v=spf1 ip4:192.0.2.25 -all\n{DK}{record_text(KEY.public)}\n"
        f"{HERE}v=DMARC1; p=none; rua=mailto:d@q.example\n{RETURN} MX m.q.example\nm.q.example A 192.0.2.25\n"
        f"192.0.2.25 PTR m.q.example\n_mta-sts.{N} TXT v=STSv1; id=1\n_smtp._tls.{N} TXT"
    )
    seen = drive(records.look(FACTS), answers)
    assert seen.state == "pass" and [r.record for r in seen.records] == [
        "Ownership",
        "SPF",
        "DKIM m1",
        "DMARC",
        "Return path",
        "Reverse DNS of 192.0.2.25",
        "MTA-STS",
        "TLS reports",
    ]
    bare = drive(records.look(records.SenderFacts(N, "tok", (), ("192.0.2.25",), RETURN)), answers)
    assert bare.state == "fail" and "no key yet" in next(r.found for r in bare.records if r.record == "DKIM")
    states = ("pass", "warning", "unknown", "fail")
    for i, worst in enumerate(states):
        assert overall([RecordFinding("x", s, "", "", "") for s in states[: i + 1]]) == worst


def test_long_values_are_cut_into_strings() -> None:
    line = txt_line("a.example", 'x"' * 200)
    assert line.startswith('a.example. 3600 IN TXT "x\\"x') and max(len(s) for s in line.split('" "')) < 530


@pytest.mark.parametrize(
    ("p", "messages", "failing", "said"),
    [
        ("none", 0, {}, "No reports yet"),
        ("none", 4000, {"ours": 0, "known": 0, "unknown": 0}, "4,000 messages were reported in 30 days, 100.0% aligned."),
        (
            "none",
            4120,
            {"ours": 80, "unknown": 40},
            "would affect 120: 80 from your own sources, 40 from unknown sources.",
        ),
        ("quarantine", 1000, {"known": 5}, "would affect 5: 5 from known sources."),
        ("reject", 1000, {"unknown": 9}, "Rejected or unclear: 9 from unknown sources."),
    ],
)
def test_what_a_stricter_policy_would_hit(p: str, messages: int, failing: dict[str, int], said: str) -> None:
    policy = dmarc.read(f"v=DMARC1; p={p}; rua=mailto:a@b.example")
    assert policy is not None
    found = dmarc.risk(policy, messages, failing, 30)
    assert said in found and ("Fix your own first" in found) == bool(failing.get("ours"))
