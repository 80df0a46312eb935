"""Bounces and complaints and receivers' reports, also hostile ones; and the pre-send checks on any message."""

from __future__ import annotations

import gzip
import io
import zipfile

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.authentication.dkim import Signer, new_key
from openmeadow.core.message import lint
from openmeadow.core.reports import aggregate, limits, mail, provider_statistics
from openmeadow.core.reports.bounces import bounce_class, plain_reason
from openmeadow.core.reports.mail import Unreadable
from tests.core.recorded import drive, zone


@pytest.mark.parametrize(
    ("code", "diagnostic", "shown", "text"),
    [
        ("550", "550 5.1.1 <ann@x.example>: no such user", "5.1.1", "…: no such user"),
        ("5.1.1", "550 5.1.1 no such user here", "5.1.1", "no such user here"),
        ("530", "530 Must sign in", "530", "Must sign in"),
        ("5.1.1", "550 5.1.1", "5.1.1", ""),
        ("451", "451 4.7.1 try again in 1800 seconds", "4.7.1", "try again in … seconds"),
        (None, "550-5.7.1 listed at 192.0.2.7", "5.7.1", "listed at …"),
        (None, None, "", ""),
    ],
)
def test_a_refusal_says_its_code_once(code: str | None, diagnostic: str | None, shown: str, text: str) -> None:
    assert plain_reason(code, diagnostic) == (shown, text)


@pytest.mark.parametrize(
    ("code", "text", "expected"),
    [
        ("5.1.1", "", "hard"),
        ("5.1.10", "null MX", "hard"),
        ("5.2.1", "disabled", "hard"),
        ("550", "5.1.1 no such user", "hard"),
        ("5.0.0", "smtp; 550 5.1.1 unknown", "hard"),
        ("550", "User unknown here", "hard"),
        ("550", "go away", "unknown"),
        ("550", "host 5.1.1.20 said no", "unknown"),
        ("554", "no such user", "unknown"),
        ("5.1.3", "bad address syntax", "unknown"),
        ("5.2.2", "full", "soft"),
        ("4.4.1", "", "soft"),
        ("451", "try later", "soft"),
        ("5.7.1", "policy", "blocked"),
        ("550", "listed at a block list", "blocked"),
        ("4.7.1", "too much", "soft"),
        ("4.7.1", "listed at a block list", "blocked"),
        ("554", "poor reputation of your network", "blocked"),
        (None, None, "unknown"),
    ],
)
def test_bounce_classes(code: str | None, text: str | None, expected: str) -> None:
    assert bounce_class(code, text) == expected


def report(status: str, *parts: str, kind: str = "delivery-status") -> bytes:
    head = (
        "From: postmaster@mx.example\nTo: b1@bounce.example\nSubject: Report\nMIME-Version: 1.0\n"
        f'Content-Type: multipart/report; report-type={kind}; boundary="b"\n\n--b\nContent-Type: text/plain\n\nWords.\n'
    )
    more = "".join(f"--b\n{p}\n" for p in parts)
    return f"{head}--b\nContent-Type: message/{kind}\n\n{status}\n{more}--b--\n".encode()


def group(
    to: str, action: str = "failed", status: str = "5.1.1", why: str = "smtp; 550 5.1.1 no", name: str = "Final"
) -> str:
    return f"{name}-Recipient: rfc822; {to}\nAction: {action}\nStatus: {status}\nDiagnostic-Code: {why}\n"


QUOTED = "Content-Type: text/rfc822-headers\n\nMessage-ID: <d7.c3@n.example>\nTo: Ada <ada@x.example>\n"


def test_delivery_reports() -> None:
    mta = "Reporting-MTA: dns; mx.example\n\n"
    several = mta + group("a@x.example") + "\n" + group("b@x.example", "delayed", "4.4.1", "smtp; 451 later", "Original")
    found = mail.read(report(several, QUOTED))
    assert [(r.address, r.action, r.class_, r.code) for r in found.recipients] == [
        ("a@x.example", "failed", "hard", "5.1.1"),
        ("b@x.example", "delayed", "soft", "4.4.1"),
    ]
    assert (found.kind, found.original_id, found.original_to) == ("bounce", "<d7.c3@n.example>", "ada@x.example")
    folded = mail.read(report(mta + "Final-Recipient: rfc822;\n <a@x.example>\nAction: Failed\nStatus: 5.7.1 (policy)\n"))
    assert [(r.address, r.class_, r.code) for r in folded.recipients] == [("a@x.example", "blocked", "5.7.1")]
    good = mail.read(report(mta + group("a@x.example", "delivered", "2.0.0", "smtp; 250 ok")))
    assert good.recipients[0].action == "delivered" and good.recipients[0].class_ == ""


def test_complaints() -> None:
    fields = "Feedback-Type: abuse\nUser-Agent: Watch/1\nVersion: 1\nOriginal-Rcpt-To: <ada@x.example>\n"
    found = mail.read(report(fields, QUOTED, kind="feedback-report"))
    assert found.kind == "complaint" and found.original_id == "<d7.c3@n.example>"
    assert [(r.address, r.action) for r in found.recipients] == [("ada@x.example", "complained")]
    bare = mail.read(report("Feedback-Type: abuse\nVersion: 1\n", QUOTED, kind="feedback-report"))
    assert bare.recipients[0].address == "ada@x.example"
    assert mail.read(report("Feedback-Type: not-spam\n", QUOTED, kind="feedback-report")).recipients == ()


def plain(text: str, **headers: str) -> bytes:
    lines = "".join(f"{k.replace('_', '-')}: {v}\n" for k, v in headers.items())
    return f"From: a@x.example\n{lines}\n{text}\n".encode()


def test_old_writings_and_automatic_replies() -> None:
    old = plain(
        "Hi. This is the qmail-send program at mx.example.\nI'm afraid I wasn't able to deliver your message.\n\n"
        "<gone@x.example>:\n550 5.1.1 no such user here\n\n--- Below this line is a copy of the message.\n",
        Subject="failure notice",
    )
    found = mail.read(old)
    assert [(r.address, r.class_) for r in found.recipients] == [("gone@x.example", "hard")]
    for headers in ({"Auto_Submitted": "auto-replied"}, {"X_Autoreply": "yes"}, {"Subject": "Out of office until May"}):
        assert mail.read(plain("I am away; write to b@x.example. 550 5.1.1", **headers)).kind == "automatic reply"
    assert mail.read(plain("Good morning", Subject="Tickets")).kind == "other"


def test_hostile_mail_is_a_sentence() -> None:
    deep = b"".join(b'Content-Type: multipart/mixed; boundary="%d"\n\n--%d\n' % (i, i) for i in range(80))
    with pytest.raises(Unreadable, match="more than 50 deep"):
        mail.read(deep + b"Content-Type: text/plain\n\nx")
    with pytest.raises(Unreadable, match="larger than 25 MB"):
        mail.read(b"a" * (limits.MESSAGE_BYTES + 1))
    bad = report("Final-Recipient: \nAction:\nStatus: x\n\n\x00\xff")
    assert mail.read(bad).kind in ("bounce", "other")


@given(st.binary(max_size=400))
def test_any_bytes_are_read_or_refused(raw: bytes) -> None:
    for text in (
        raw,
        b"Content-Type: multipart/report; boundary=b\n\n--b\nContent-Type: message/delivery-status\n\n" + raw,
    ):
        assert mail.read(text).kind in ("bounce", "complaint", "automatic reply", "other")
    assert all(c.level in lint.LEVELS for c in lint.of_message(raw))


RECORD = (
    "<record><row><source_ip>{ip}</source_ip><count>{n}</count><policy_evaluated><disposition>none</disposition>"
    "<dkim>{dkim}</dkim><spf>fail</spf><reason><type>mailing_list</type></reason></policy_evaluated></row>"
    "<identifiers><header_from>q.example</header_from>"
    "</identifiers><auth_results><dkim><domain>forged.example</domain><result>fail</result></dkim><dkim><domain>q.example"
    "</domain><result>pass</result></dkim><spf><domain>r.example</domain><result>softfail</result></spf></auth_results>"
    "</record>"
)


def xml(*records: str, domain: str = "Q.example", root: str = "feedback", head: str = "") -> bytes:
    return (
        f"{head}<{root}><report_metadata><org_name>Postern</org_name><report_id>r1</report_id><date_range>"
        f"<begin>1773100000</begin><end>1773186400</end></date_range></report_metadata><policy_published><domain>{domain}"
        f"</domain><p>none</p></policy_published>{''.join(records)}</{root}>"
    ).encode()


ONE = RECORD.format(ip="192.0.2.25", n=40, dkim="pass")


def test_aggregate_reports() -> None:
    r = aggregate.read(xml(ONE, RECORD.format(ip="2001:db8::1", n=2, dkim="fail"), head='<?xml version="1.0"?>'))
    assert (r.org, r.id, r.domain, r.begin, r.policy) == ("Postern", "r1", "q.example", 1773100000, "none")
    assert [(x.ip, x.messages, x.aligned, x.dkim_domain) for x in r.rows] == [
        ("192.0.2.25", 40, True, "q.example"),
        ("2001:db8::1", 2, False, "q.example"),
    ]
    assert [(x.spf_domain, x.override) for x in r.rows] == [("", "mailing list")] * 2, "what failed names no domain"
    named = xml(ONE).replace(b"<feedback>", b'<feedback xmlns="urn:ietf:params:xml:ns:dmarc-2.0">')
    assert aggregate.read(named).rows == r.rows[:1]


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        (b"no xml", "Invalid XML"),
        (xml(root="html"), "not an aggregate report"),
        (xml(domain=""), "its sender or domain"),
        (xml(RECORD.format(ip="here", n=1, dkim="pass")), "invalid source address"),
        (xml(RECORD.format(ip="192.0.2.1", n="many", dkim="pass")), "not a number"),
        (xml(RECORD.format(ip="192.0.2.1", n=-3, dkim="pass")), "is impossible"),
        (xml(ONE, head='<!DOCTYPE f [<!ENTITY a "x">]>').replace(b"Postern", b"&a;"), "entities"),
        (xml(ONE, head='<!DOCTYPE f [<!ENTITY a SYSTEM "file:///etc/passwd">]>').replace(b"Postern", b"&a;"), "entities"),
    ],
)
def test_reports_that_are_refused(text: bytes, sentence: str) -> None:
    with pytest.raises(Unreadable, match=sentence):
        aggregate.read(text)


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in files.items():
            z.writestr(name, data)
    return out.getvalue()


def test_archives() -> None:
    for packed in (xml(ONE), gzip.compress(xml(ONE)), zipped({"a.xml": xml(ONE)})):
        ((_, text),) = aggregate.unpacked(packed, "a.xml")
        assert aggregate.read(text).id == "r1"
    bomb = b"0" * (limits.ARCHIVE_BYTES + 10)
    for packed, sentence in (
        (gzip.compress(bomb, 1), "more than 200 MB"),
        (zipped({"a.xml": bomb}), "more than 200 MB"),
        (zipped({f"{i}.xml": b"" for i in range(1001)}), "the limit is 1,000"),
        (zipped({}), "empty"),
        (gzip.compress(xml(ONE))[:-20], "damaged"),
        (zipped({"a.xml": xml(ONE)})[:60], "damaged"),
    ):
        with pytest.raises(Unreadable, match=sentence):
            list(aggregate.unpacked(packed))


GOOD_TEXT = "Dear Mira,\n\nthe spring season is here.\n\nKestrel Quay, 1 Harbour Steps, Saltmere\nUnsubscribe: https://q.example/u\n"
GOOD = {
    "To": "mira@x.example",
    "Subject": "The spring season is on sale",
    "Date": "Thu, 12 Mar 2026 09:42:00 +0000",
    "Message_ID": "<1@q.example>",
    "List_Unsubscribe": "<https://q.example/u/1>",
    "List_Unsubscribe_Post": "List-Unsubscribe=One-Click",
}


def letter(text: str = GOOD_TEXT, sender: str = "Quay <hello@q.example>", **changed: str | None) -> bytes:
    headers = {"From": sender, **GOOD, **changed}
    lines = "".join(f"{k.replace('_', '-')}: {v}\r\n" for k, v in headers.items() if v is not None)
    return (lines + "\r\n" + text.replace("\n", "\r\n")).encode()


def html(body: str) -> bytes:
    parts = f"--b\nContent-Type: text/plain\n\n{GOOD_TEXT}\n--b\nContent-Type: text/html\n\n{body}\n--b--\n"
    return letter(parts, MIME_Version="1.0", Content_Type='multipart/alternative; boundary="b"')


SHOWN = "<p>Kestrel Quay, 1 Harbour Steps, Saltmere. <a href='https://q.example/u'>Unsubscribe</a></p>"


@pytest.mark.parametrize(
    ("raw", "level", "check", "words"),
    [
        (letter(sender="a@q.example, b@q.example"), "blocker", "From", "not a single valid"),
        (letter(sender="a@lanternmail.example"), "blocker", "From", "free mailbox provider"),
        (letter(Subject=None), "blocker", "Subject", "no subject"),
        (letter(Subject="RE: your order"), "warning", "Subject", "like a reply"),
        (letter(Subject="BUY TICKETS NOW TODAY"), "warning", "Subject", "capital letters"),
        (letter(Subject="Risk-free for Grace!"), "note", "Subject", "“risk-free”"),
        (letter(Subject="Seats for the long evening in the old hall, FREE $$$"), "note", "Subject", "“FREE”, “$$$”"),
        (letter("BOOK YOUR SEATS NOW.\n" + GOOD_TEXT), "note", "Wording", "BOOK YOUR SEATS NOW"),
        (letter("Prices guaranteed, order now.\n" + GOOD_TEXT), "note", "Wording", "“guaranteed”, “order now”"),
        (letter(Subject="x" * 90), "note", "Subject", "90 characters"),
        (letter(Date=None), "blocker", "Date", "no Date"),
        (letter(Message_ID=None), "warning", "Message-ID", "no Message-ID"),
        (letter(List_Unsubscribe=None), "blocker", "One-click unsubscribe", "There is no List-Unsubscribe"),
        (letter(List_Unsubscribe="<mailto:u@q.example>"), "blocker", "One-click unsubscribe", "works by mail only"),
        (letter(List_Unsubscribe="<http://q.example/u>"), "blocker", "One-click unsubscribe", "only over http"),
        (letter(List_Unsubscribe_Post=None), "blocker", "One-click unsubscribe", "List-Unsubscribe-Post is missing"),
        (letter("Nothing more.\nKestrel Quay, 1 Harbour Steps"), "blocker", "Unsubscribe", "no visible unsubscribe"),
        (letter("Come. Unsubscribe: below"), "warning", "Postal address", "no postal address"),
        (letter("Dear {{ first_name }},\n" + GOOD_TEXT), "blocker", "Merge fields", "first_name"),
        (letter(""), "blocker", "Message", "is empty"),
        (letter(GOOD_TEXT + "x" * 1200), "blocker", "Lines", "998"),
        (letter(Subject="Früh"), "blocker", "Headers", "non-ASCII"),
        (letter(DKIM_Signature="v=1; a=rsa-sha1; d=q.example; s=a; h=from; bh=; b="), "blocker", "DKIM", "SHA-1"),
        (
            letter(DKIM_Signature="v=1; a=rsa-sha256; d=r.example; s=a; h=from; bh=; b="),
            "blocker",
            "Alignment",
            "not aligned",
        ),
        (
            letter(DKIM_Signature="v=1; a=rsa-sha256; d=q.example; s=a; h=from; bh=; b="),
            "blocker",
            "One-click unsubscribe",
            "No DKIM signature covers both",
        ),
        (html("<a href='https://evil.example/x'>www.q.example</a>" + SHOWN), "blocker", "Links", "leads to evil.example"),
        (html("<a href='http://192.0.2.1/x'>here</a>" + SHOWN), "blocker", "Links", "an IP address"),
        (html("<a href=''>here</a>" + SHOWN), "blocker", "Links", "has no address"),
        (html("<a href='https://ab.io/x7Yq2'>here</a>" + SHOWN), "warning", "Links", "shortened"),
        (html("<img src='a.png'>" + SHOWN), "warning", "Images", "no alt text"),
        (html("<a href='https://q.example/t'>Click here</a>" + SHOWN), "note", "Wording", "only “Click here”"),
        (html("<script>x</script>" + SHOWN), "warning", "HTML", "scripts"),
        (html("<p>" + "word " * 25_000 + "</p>" + SHOWN), "warning", "Size", "100 kB"),
        (html(SHOWN), "note", "Preview text", "None is set"),
        (b"", "blocker", "Message", "no headers"),
    ],
)
def test_pre_send_checks(raw: bytes, level: str, check: str, words: str) -> None:
    found = lint.of_message(raw, {"lanternmail.example"})
    assert any((c.level, c.check) == (level, check) and words in c.finding for c in found), found


def test_a_good_message_passes() -> None:
    key = new_key("ed25519")
    raw = letter()
    signed = Signer("q.example", "m1", key.private).header(raw, 1_773_308_520) + raw
    assert lint.of_message(signed) == []
    assert [c.check for c in lint.of_message(raw)] == ["DKIM"]
    policy = "_dmarc.q.example TXT v=DMARC1; p=none; rua=mailto:d@q.example"
    assert drive(lint.sender_of(raw), zone(policy)) == []
    assert drive(lint.sender_of(raw), zone("_dmarc.q.example TXT"))[0].level == "blocker"
    assert drive(lint.sender_of(raw), zone("_dmarc.q.example TXT ?"))[0].level == "note"


def test_providers_own_figures() -> None:
    found, refused = provider_statistics.read(
        "Date,Provider,complaint_rate,standing\n2026-03-01,postern,0.12%,good\n2026-03-02,Postern,0.0031,\n"
        "1 March,Postern,0.1,\n2026-03-03,Nobody,0.1%,\n2026-03-03,Postern,,\n2026-03-03,Postern,12,\n",
        ["Other domains", "Postern"],
    )
    assert [(f.provider, f.day, f.complaint_rate, f.standing) for f in found] == [
        ("Postern", "2026-03-01", pytest.approx(0.0012), "good"),
        ("Postern", "2026-03-02", 0.0031, None),
    ]
    assert [s.partition(":")[0] for s in refused] == ["Line 4", "Line 5", "Line 6", "Line 7"]
    assert provider_statistics.read("a,b\n1,2\n", [])[1][0].startswith("The first line must name")


@given(st.text(max_size=400))
def test_figures_never_raise(text: str) -> None:
    found, refused = provider_statistics.read("date,provider,complaint_rate\n" + text, ["Postern"])
    assert isinstance(refused, list) and all(f.provider == "Postern" for f in found)
