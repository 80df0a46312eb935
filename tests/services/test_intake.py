"""What anybody can send to the intake: it acts by our own signature alone, within limits, and nothing stops it."""

from __future__ import annotations

import smtplib
from collections.abc import Iterator
from pathlib import Path

import pytest

from openmeadow.core.reports.incoming import parse
from openmeadow.core.reports.limits import INTAKE_RECIPIENTS
from openmeadow.core.reports.mail import Unreadable
from openmeadow.demo.mail_world.returned_mail import bounce, complaint
from openmeadow.net import smtp_server
from openmeadow.net.parser_process import ParserProcess
from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.services.health import bounce_intake
from openmeadow.services.health import inbound_mail as intake_service
from openmeadow.services.health.inbound_mail import Intake
from openmeadow.store import settings
from tests.conftest import set_clock
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, free_port, mailing

RETURNS = f"bounce.{DOMAIN}"


@pytest.fixture
def sent(folder: Path) -> Iterator[tuple[Mailing, Intake]]:
    """A campaign that went out, and the intake listening."""
    with mailing(folder, 12) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        port = int(m.workspace.setting("intake_port"))
        intake = Intake(m.workspace, m.tokens, "127.0.0.1", port)
        yield m, intake
        intake.stop()


def deliveries(m: Mailing) -> dict[int, int]:
    return {d.subscriber: d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}


def hand_in(m: Mailing, to: str, raw: str, sender: str = "") -> None:
    with smtplib.SMTP("127.0.0.1", int(m.workspace.setting("intake_port"))) as smtp:
        smtp.sendmail(sender, [to], raw.replace("\r\n", "\n"))


def suppressed(m: Mailing) -> set[int]:
    return {r["subscriber"] for r in m.workspace.store.read().execute("SELECT subscriber FROM suppressions")}


def many_recipients(n: int) -> str:
    groups = "".join(
        f"Final-Recipient: rfc822; p{i}@postern.example\nAction: failed\nStatus: 5.1.1\n\n" for i in range(n)
    )
    return (
        "From: a@x.example\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\n"
        f"Content-Type: message/delivery-status\n\nReporting-MTA: dns; x\n\n{groups}--b--\n"
    )


def test_only_our_own_signature_marks_anybody(sent: tuple[Mailing, Intake]) -> None:
    m, intake = sent
    ids = deliveries(m)
    for to in (f"whoever@{RETURNS}", f"b{ids[1]}-000000000000@{RETURNS}", "p1@other.example", f"u1-0@{RETURNS}"):
        with pytest.raises(smtplib.SMTPRecipientsRefused):
            hand_in(m, to, many_recipients(12))
    hand_in(m, f"abuse@{DOMAIN}", many_recipients(12))
    forged = complaint("x", "p3@postern.example", f"<d{ids[4]}.c{m.campaign}.000000000000@{DOMAIN}>", "hello@x")
    hand_in(m, f"abuse@{RETURNS}", forged)
    intake.drain()
    assert suppressed(m) == set(), "an address or a Message-ID that anybody can write marks nobody"
    hand_in(m, m.tokens.return_path(ids[5], RETURNS), many_recipients(12))
    quoted = complaint("x", "p6@saltmere.example", m.tokens.message_id(ids[7], m.campaign, DOMAIN), "hello@x")
    hand_in(m, f"abuse@{RETURNS}", quoted)
    intake.drain()
    assert suppressed(m) == {5, 7}, "one signed return path speaks for one delivery, a signed Message-ID likewise"
    kept = intake_service.aside(m.workspace)
    assert sum(r.n for r in kept.reasons) == 2 and "neither a return path" in kept.reasons[0].reason


def test_writing_to_the_address_in_the_header_unsubscribes(sent: tuple[Mailing, Intake]) -> None:
    m, intake = sent
    address = m.tokens.unsubscribe_address(deliveries(m)[2], RETURNS)
    hand_in(m, address, "Subject: unsubscribe\n\n")
    intake.drain()
    assert m.workspace.count('permitted for "News"')[0] == 12, intake_service.aside(m.workspace)
    hand_in(m, address, "Subject: unsubscribe\n\n", "p1@postern.example")
    hand_in(m, address, "Subject: unsubscribe\n\nagain", "p1@postern.example")
    intake.drain()
    assert m.workspace.count('permitted for "News"')[0] == 11
    rows = m.workspace.store.read().execute("SELECT subscriber FROM events WHERE kind = 10").fetchall()
    assert [r["subscriber"] for r in rows] == [2], "once"


MALFORMED = {
    "a boundary without an end": "Content-Type: multipart/report; boundary*0*=\n\nx",
    "a parameter that continues nowhere": "Content-Type: multipart/mixed; boundary*1*=%; boundary*0=x\n\n--x\n\n",
    "a recipient of separators": many_recipients(1).replace("rfc822; p0@postern.example", ";;;"),
    "a status in words": many_recipients(1).replace("5.1.1", "five"),
    "an unknown charset": "Content-Type: text/plain; charset=nowhere\nSubject: =?nowhere?q?x?=\n\n\xff\xfe",
    "an encoding that is none": "Content-Type: text/plain\nContent-Transfer-Encoding: base64\n\n!!!!",
    "a name without an end": "Content-Type: application/zip; name*=utf-8%\nContent-Disposition: attachment; filename*=x\n\nPK",
    "octets": bytes(range(256)) * 20,
    "nothing": "",
    "a million signs": "From: " + "a@" * 20_000 + "\nSubject: x\n\n" + "<" * 100_000,
    "many addresses": many_recipients(1).replace("p0@postern.example", "a@" * 20_000),
}


@pytest.mark.parametrize("what", list(MALFORMED))
def test_malformed_mail_never_raises(what: str, folder: Path, tmp_path: Path) -> None:
    text = MALFORMED[what]
    raw = text.encode("latin-1") if isinstance(text, str) else text
    try:
        assert parse(raw).kind
    except Unreadable as e:
        assert str(e).endswith(".")
    file = tmp_path / "report.eml"
    file.write_bytes(raw)
    with mailing(folder, 2) as m:
        (found,) = bounce_intake.take_file(m.workspace, file)
        assert found.kind in ("bounce", "complaint", "aggregate", "unreadable")
        assert found.kind != "unreadable" or found.reason.endswith(".")


def test_limits_of_recipients_rate_and_time(sent: tuple[Mailing, Intake]) -> None:
    m, intake = sent
    ids = deliveries(m)
    with smtplib.SMTP("127.0.0.1", int(m.workspace.setting("intake_port"))) as smtp:
        to = [f"{box}@{DOMAIN}" for box in ("abuse",)] * (INTAKE_RECIPIENTS + 2)
        refused = smtp.sendmail("", to, "Subject: x\n\n")
        assert [code for code, _ in refused.values()] == [452]
    port, took = free_port(), list[str]()
    server = smtp_server.listen("127.0.0.1", port, lambda a: True, lambda s, to, raw: took.append(to), 3)
    try:
        for _ in range(3):
            with smtplib.SMTP("127.0.0.1", port) as smtp:
                smtp.sendmail("", ["a@x.example"], "x")
        with smtplib.SMTP("127.0.0.1", port) as smtp, pytest.raises(smtplib.SMTPDataError, match="too many messages"):
            smtp.sendmail("", ["a@x.example"], "x")
    finally:
        server.stop()
    assert len(took) == 3
    hasty = ParserProcess(seconds=0.0)
    with pytest.raises(Unreadable, match="took longer"):
        hasty.parse(b"Subject: x\n\n")
    hasty.close()
    intake._parser = ParserProcess(seconds=0.0)
    hand_in(m, m.tokens.return_path(ids[3], RETURNS), bounce("x", "p2@saltmere.example", "<x>"))
    intake.drain()
    intake._parser.close()
    intake._parser = ParserProcess()
    hand_in(m, m.tokens.return_path(ids[4], RETURNS), bounce("x", "p3@postern.example", "<x>"))
    intake.drain()
    assert suppressed(m) == {4}, "one that takes too long is set aside, and the next is read"
    assert any("took longer" in r.reason for r in intake_service.aside(m.workspace).reasons)


def test_raw_mail_goes_after_its_time(sent: tuple[Mailing, Intake]) -> None:
    m, intake = sent
    hand_in(m, m.tokens.return_path(deliveries(m)[4], RETURNS), bounce("x", "p3@postern.example", "<x>"))
    hand_in(m, f"abuse@{DOMAIN}", "Subject: hello\n\n")
    intake.drain()
    assert intake_service.tidy(m.workspace) == 0
    with m.workspace.store.atomic() as db:
        settings.set_setting(db, "raw_mail_kept_days", 1)
    set_clock(m.workspace, m.workspace.now() + 2 * 86_400)
    assert intake_service.tidy(m.workspace) == 2 and intake_service.tidy(m.workspace) == 0
    row = m.workspace.store.read().execute("SELECT class, length(raw) AS n FROM returned_mail").fetchone()
    assert (row["class"], row["n"]) == ("hard", 0), "what it said stays"


def test_reports_about_other_domains_are_set_aside(sent: tuple[Mailing, Intake]) -> None:
    m, intake = sent
    for domain, n in (("other.example", 0), (DOMAIN, 1)):
        xml = (
            "<feedback><report_metadata><org_name>Postern</org_name><report_id>1</report_id><date_range><begin>1</begin>"
            f"<end>2</end></date_range></report_metadata><policy_published><domain>{domain}</domain></policy_published>"
            "</feedback>"
        )
        hand_in(m, f"dmarc@{DOMAIN}", f"Content-Type: text/xml; name=r.xml\n\n{xml}")
        intake.drain()
        assert m.workspace.store.read().execute("SELECT count(*) AS n FROM aggregate_reports").fetchone()["n"] == n
