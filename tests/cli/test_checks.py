"""``meadow check …`` and ``meadow import reports`` as scripts use them, against the DNS and mail stand-ins."""

from __future__ import annotations

import json
from pathlib import Path

from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.store.health import reports as report_table
from tests.core.test_reports import ONE, group, letter, plain, report, xml
from tests.processes import meadow
from tests.services.mailing import DOMAIN, deliveries_of, mailing


def test_addresses(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 6, gone=[0, 1, *[2**60] * 4]) as m:
        where = str(m.workspace.setting("resolver"))
        with m.workspace.store.atomic() as db:
            from openmeadow.store import settings

            settings.set_setting(db, "mail_port", m.workspace.setting("relay_port"))
        file = tmp_path / "list.txt"
        file.write_text("P0@saltmere.example\n mira@lanternmial.example \nnobody\n\np2@saltmere.example\n")
        code, out, _ = meadow(folder, "check", "addresses", str(file), "--mailboxes", "--json")
        found = json.loads(out)
        assert code == 0 and [(f["address"], f["verdict"]) for f in found] == [
            ("P0@saltmere.example", "undeliverable"),
            (" mira@lanternmial.example ", "undeliverable"),
            ("nobody", "undeliverable"),
            ("", "undeliverable"),
            ("p2@saltmere.example", "deliverable"),
        ]
        assert (
            found[1]["suggestion"] == "mira@lanternmail.example"
            and "the mailbox does not exist" in found[0]["reasons"][0]
        )
        nowhere = tmp_path / "none"
        quiet = json.loads(meadow(nowhere, "check", "addresses", str(file), "--no-network", "--json")[1])
        assert [f["verdict"] for f in quiet] == [
            "deliverable",
            "deliverable",
            "undeliverable",
            "undeliverable",
            "deliverable",
        ] and not nowhere.exists()
        table_ = "name;email\nA;info@saltmere.example\nB;x@nowhere.example\n"
        code, out, _ = meadow(nowhere, "check", "addresses", "-", "--resolver", where, "--json", given=table_)
        assert [f["verdict"] for f in json.loads(out)] == ["risky", "undeliverable"]
        assert meadow(nowhere, "check", "addresses", str(tmp_path / "gone"))[0] == 3


def test_domains_and_spf(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 2) as m:
        where = str(m.workspace.setting("resolver"))
        code, out, _ = meadow(folder, "check", "domain", DOMAIN, "--json")
        found = json.loads(out)
        assert code == 0 and (found["domain"], found["state"]) == (DOMAIN, "pass")
        assert {"record", "state", "expected", "found", "meaning", "publish"} == set(found["records"][0])
        assert found["spf"]["result"] == "pass" and found["spf"]["lookups"] == 0
        outside = tmp_path / "none"
        code, out, _ = meadow(
            outside, "check", "domain", "saltmere.example", "--resolver", where, "--ip", "192.0.2.7", "--json"
        )
        bad = json.loads(out)
        assert code == 1 and bad["state"] == "fail" and bad["spf"]["result"] == "none"
        assert any(r["publish"].endswith('TXT "v=spf1 ip4:192.0.2.7 -all"') for r in bad["records"])
        assert meadow(outside, "check", "domain", "no domain")[0] == 1
        assert meadow(outside, "check", "domain", "a.example", "--ip", "here")[0] == 2
        ask = ("check", "spf", "--mail-from", f"a@bounce.{DOMAIN}", "--helo", "mx.example", "--resolver", where)
        code, out, _ = meadow(outside, *ask, "--ip", "192.0.2.25", "--json")
        assert code == 0 and json.loads(out)["result"] == "pass" and json.loads(out)["lookups"] == 0
        code, out, _ = meadow(outside, *ask, "--ip", "192.0.2.26")
        assert "fail: " in out and meadow(outside, *ask, "--ip", "x")[0] == 2


def test_messages(folder: Path, tmp_path: Path) -> None:
    good, bad = tmp_path / "good.eml", tmp_path / "bad.eml"
    good.write_bytes(letter())
    bad.write_bytes(letter(List_Unsubscribe=None))
    code, out, _ = meadow(folder, "check", "message", str(good), "--json")
    assert code == 0 and json.loads(out) == [
        {"check": "DKIM", "level": "note", "finding": "The message is not signed; it must be when sent."}
    ]
    code, out, _ = meadow(folder, "check", "message", str(bad))
    assert code == 1 and "blocker One-click unsubscribe" in out


def test_reports(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 8) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "t")
        dispatcher.send_due(m.workspace, m.tokens)
        first = deliveries_of(m.workspace.store.read(), m.campaign, "first")[2]
        quoted = f"Content-Type: text/rfc822-headers\n\nMessage-ID: {m.tokens.message_id(first.id, m.campaign, DOMAIN)}\n"
        mta = "Reporting-MTA: dns; mx.example\n\n"
        (tmp_path / "one.eml").write_bytes(report(mta + group("forwarded@elsewhere.example"), quoted))
        away = plain("I am away", Auto_Submitted="auto-replied")
        box = b"".join(
            b"From x Thu Mar 12 09:42:00 2026\n" + raw + b"\n"
            for raw in (
                report(mta + group("p1@postern.example", status="5.7.1", why="smtp; 550 5.7.1 policy")),
                report("Feedback-Type: abuse\nOriginal-Rcpt-To: p3@postern.example\n", kind="feedback-report"),
                away,
            )
        )
        (tmp_path / "box.mbox").write_bytes(box)
        (tmp_path / "dmarc.xml").write_bytes(xml(ONE, domain=DOMAIN))
        (tmp_path / "bad.xml").write_bytes(b"<html/>")
        files = [str(tmp_path / n) for n in ("one.eml", "box.mbox", "dmarc.xml", "bad.xml")]
        dry = json.loads(meadow(folder, "import", "reports", *files, "--dry-run", "--json")[1])
        assert [f["kind"] for f in dry] == ["bounce", "bounce", "complaint", "unreadable", "aggregate", "unreadable"]
        assert m.workspace.count("suppressed")[0] == 0, "only looked at"
        code, out, _ = meadow(folder, "import", "reports", *files, "--json")
        found = json.loads(out)
        assert code == 1 and [f["file"].rpartition("/")[2] for f in found][1:3] == ["box.mbox#1", "box.mbox#2"]
        assert found[0]["recipients"][0] | {"diagnostic": ""} == {
            "address": "forwarded@elsewhere.example",
            "class": "hard",
            "code": "5.1.1",
            "diagnostic": "",
            "action": "failed",
        }
        who = m.workspace.store.read().execute("SELECT subscriber, reason FROM suppressions ORDER BY 1, 2").fetchall()
        assert {tuple(r) for r in who} == {(first.subscriber, 1), (4, 2)}, "by Message-ID; and a policy suppresses nobody"
        again = json.loads(meadow(folder, "import", "reports", *files[:3], "--json")[1])
        assert again[0]["repeated"] and again[4]["reports"][0]["repeated"], "kept once"
        assert len(report_table.reports(m.workspace.store.read())) == 1
        kept = report_table.mail_of(m.workspace.store.read(), first.subscriber)
        assert b"forwarded@elsewhere" in report_table.mail(m.workspace.store.read(), kept[0].id).raw  # type: ignore[index]
        assert meadow(folder, "import", "reports", str(tmp_path / "gone.eml"))[0] == 3
        assert "automatic reply" in found[3]["reason"].lower()
