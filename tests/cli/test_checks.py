"""``meadow check …`` and ``meadow import reports`` as scripts use them, against the DNS and mail stand-ins."""

from __future__ import annotations

import json
from pathlib import Path

from openmeadow.desk import campaigns, sending
from openmeadow.store import ledger
from openmeadow.store import reports as report_table
from tests.cli.test_commands import meadow
from tests.core.test_reports import ONE, group, letter, plain, report, xml
from tests.desk.mailing import DOMAIN, mailing


def test_addresses(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 6, gone=[0, 1, *[2**60] * 4]) as m:
        where = str(m.desk.setting("resolver"))
        with m.desk.store.atomic() as db:
            from openmeadow.store import workspace

            workspace.set_setting(db, "mail_port", m.desk.setting("relay_port"))
        file = tmp_path / "list.txt"
        file.write_text("P0@saltmere.example\n mira@lanternmial.example \nnobody\n\np2@saltmere.example\n")
        code, out, _ = meadow(folder, "check", "addresses", str(file), "--mailboxes", "--json")
        found = json.loads(out)
        assert code == 0 and [(f["address"], f["verdict"]) for f in found] == [
            ("P0@saltmere.example", "bad"),
            (" mira@lanternmial.example ", "bad"),
            ("nobody", "bad"),
            ("", "bad"),
            ("p2@saltmere.example", "good"),
        ]
        assert found[1]["suggestion"] == "mira@lanternmail.example" and "no such mailbox" in found[0]["reasons"][0]
        nowhere = tmp_path / "none"
        quiet = json.loads(meadow(nowhere, "check", "addresses", str(file), "--no-network", "--json")[1])
        assert [f["verdict"] for f in quiet] == ["good", "good", "bad", "bad", "good"] and not nowhere.exists()
        table_ = "name;email\nA;info@saltmere.example\nB;x@nowhere.example\n"
        code, out, _ = meadow(nowhere, "check", "addresses", "-", "--resolver", where, "--json", given=table_)
        assert [f["verdict"] for f in json.loads(out)] == ["risky", "bad"]
        assert meadow(nowhere, "check", "addresses", str(tmp_path / "gone"))[0] == 3


def test_domains_and_spf(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 2) as m:
        where = str(m.desk.setting("resolver"))
        code, out, _ = meadow(folder, "check", "domain", DOMAIN, "--json")
        found = json.loads(out)
        assert code == 0 and (found["domain"], found["state"]) == (DOMAIN, "holds")
        assert {"record", "state", "expected", "found", "meaning", "publish"} == set(found["records"][0])
        assert found["spf"]["result"] == "pass" and found["spf"]["lookups"] == 0
        outside = tmp_path / "none"
        code, out, _ = meadow(
            outside, "check", "domain", "saltmere.example", "--resolver", where, "--ip", "192.0.2.7", "--json"
        )
        bad = json.loads(out)
        assert code == 1 and bad["state"] == "broken" and bad["spf"]["result"] == "none"
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
        {"check": "DKIM", "level": "note", "finding": "The message is not signed; it must be when it goes out."}
    ]
    code, out, _ = meadow(folder, "check", "message", str(bad))
    assert code == 1 and "stop  One-click" in out


def test_reports(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 8) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "t")
        sending.send_due(m.desk, m.tokens)
        first = ledger.of_campaign(m.desk.store.read(), m.campaign, "first")[2]
        quoted = (
            f"Content-Type: text/rfc822-headers\n\nMessage-ID: {m.tokens.message_id(first['id'], m.campaign, DOMAIN)}\n"
        )
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
        assert m.desk.count("suppressed")[0] == 0, "only looked at"
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
        who = m.desk.store.read().execute("SELECT subscriber, reason FROM suppressions ORDER BY 1, 2").fetchall()
        assert {tuple(r) for r in who} == {(first["subscriber"], 1), (4, 2)}, (
            "by Message-ID; and a policy suppresses nobody"
        )
        again = json.loads(meadow(folder, "import", "reports", *files[:3], "--json")[1])
        assert again[0]["repeated"] and again[4]["reports"][0]["repeated"], "kept once"
        assert len(report_table.reports(m.desk.store.read())) == 1
        kept = report_table.mail_of(m.desk.store.read(), first["subscriber"])
        assert b"forwarded@elsewhere" in report_table.mail(m.desk.store.read(), kept[0]["id"])["raw"]  # type: ignore[index]
        assert meadow(folder, "import", "reports", str(tmp_path / "gone.eml"))[0] == 3
        assert "automatic reply" in found[3]["reason"].lower()
