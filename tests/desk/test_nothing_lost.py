"""Nothing twice, nothing lost, nothing undone behind one's back: late batches, full disks, damaged files, restores."""

from __future__ import annotations

import socket
import sqlite3
import threading
from collections import Counter
from pathlib import Path

import pytest

from openmeadow.core.columns import DAY
from openmeadow.core.consent.gate import GIVEN
from openmeadow.core.errors import Busy, Damaged, MeadowError, Refused
from openmeadow.desk import (
    answers,
    backup,
    campaigns,
    consent,
    outgoing,
    planning,
    sending,
    today,
    unconfirmed,
    versions,
    whole,
    workspace_check,
)
from openmeadow.desk.bring_in import subscribers
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns as campaign_table
from openmeadow.store import database, ledger, mirror, workspace
from openmeadow.wire.spare_file import SpareFile
from openmeadow.worker import Worker
from tests.conftest import NOW, set_clock
from tests.desk.mailing import DOMAIN, Mailing, mailing, on_time

HOUR = 3600


def states(m: Mailing, kind: str = "first") -> Counter[str]:
    return Counter(d["state"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, kind))


def test_a_late_batch_moves_what_follows(folder: Path) -> None:
    with mailing(folder, 40) as m:
        campaigns.write(
            m.desk, m.campaign, {"plan": {"lead_share": 0.1, "batches": 3, "interval": 4 * HOUR, "wait": 2 * DAY}}
        )
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        planned = {(b["kind"], b["n"]): b["due_at"] for b in ledger.batches(m.desk.store.read(), m.campaign)}
        set_clock(m.desk, NOW + 2 * DAY + 4 * HOUR)
        sending.send_due(m.desk, m.tokens)
        late = 2 * DAY
        after = {(b["kind"], b["n"]): b for b in ledger.batches(m.desk.store.read(), m.campaign)}
        assert [after["first", n]["state"] for n in (1, 2, 3, 4)] == ["gone", "gone", "waiting", "waiting"]
        for key in (("first", 3), ("first", 4), ("resend", 2), ("resend", 3), ("resend", 4)):
            assert after[key]["due_at"] == planned[key] + late, key
        assert after["first", 2]["late"] == late
        log = m.desk.store.read().execute("SELECT act FROM activity WHERE act LIKE '%late%'").fetchone()
        assert "batch 2 went out 48 h late" in log["act"]
        on_time(m, NOW + 12 * DAY)
        again = ledger.of_campaign(m.desk.store.read(), m.campaign, "resend")
        assert {d["state"] for d in again if d["reason"] != "held back"} == {"handed over"}, (
            "none is emptied by the limit"
        )
        assert max(m.world.received.values()) == 1


def test_a_plan_has_at_most_500_batches_and_92_days(folder: Path) -> None:
    with mailing(folder, 60) as m:
        base = {"lead_share": 0.0, "resend": False}
        for plan, said in (
            ({"largest": 1, "interval": 30 * DAY}, r"60 batches until 2031; .* a largest batch of 15 people fits"),
            ({"batches": 100, "interval": DAY}, r"100 batches until 2026; .* 92 days"),
        ):
            campaigns.write(m.desk, m.campaign, {"plan": base | {"batches": 1, "largest": 0} | plan})
            row = campaigns.row_of(m.desk, m.campaign)
            with pytest.raises(Refused, match=said):
                planning.preview_plan(m.desk, row)
            with pytest.raises(Refused, match=said):
                campaigns.start(m.desk, m.campaign, "test")
        with pytest.raises(Refused, match="6,640 batches until 2571"):
            planning.check_size(planning.BatchPlan(1, NOW, 0.0, 6_640, 30 * DAY), 6_640)
        planning.check_size(planning.BatchPlan(1, NOW, 0.0, 500, HOUR), 1_000_000)


def test_variants_that_wait_longer_have_batches_of_their_own(folder: Path) -> None:
    with mailing(folder, 60) as m:
        arms = [{"subject": "", "preview": "", "wait": 0}, {"subject": "Later", "preview": "", "wait": 5 * DAY}]
        plan = {"lead_share": 0.0, "batches": 2, "interval": HOUR, "wait": 2 * DAY, "held_share": 0.0, "arms": arms}
        campaigns.write(m.desk, m.campaign, {"plan": plan})
        campaigns.start(m.desk, m.campaign, "test")
        on_time(m, NOW + 2 * DAY + 2 * HOUR)
        rows = m.desk.store.read().execute("SELECT n, variant, due_at FROM batches WHERE pass > 1 ORDER BY n, variant")
        assert [(r["n"], r["variant"]) for r in rows] == [(1, 0), (1, 2), (2, 0), (2, 2)]
        on_time(m, NOW + 6 * DAY)
        assert states(m, "resend") == {"handed over": 60}


def test_a_start_in_the_past_is_refused(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"start": NOW - DAY}})
        with pytest.raises(Refused, match=r"11 March, 09:42 \(UTC\), is past"):
            campaigns.start(m.desk, m.campaign, "test")
        assert "is past" in planning.preview_plan(m.desk, campaigns.row_of(m.desk, m.campaign))["note"]


def test_a_change_for_those_who_wait_is_never_put_back(folder: Path) -> None:
    with mailing(folder, 60) as m:
        trial = {"figure": "opened", "wait": HOUR, "pick": "by itself"}
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.2, "batches": 1, "resend": False, "test": trial}})
        versions.keep_other(m.desk, campaigns.row_of(m.desk, m.campaign), {"subject": "B"}, "test")
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        row = campaigns.row_of(m.desk, m.campaign)
        shown = versions.change(m.desk, row, {"subject": "C"}, "test", only_show=True)
        said = versions.change(m.desk, row, {"subject": "C"}, "test")
        assert shown["version"] == said["version"] == "C"
        on_time(m, NOW + DAY)
        subjects = Counter(x["subject"] for box in m.world.mailboxes.values() for x in box if x["subject"] in "ABC")
        assert subjects["C"] == 48, "everybody who waited got what was written for them"
        test = planning.plan_of(campaigns.row_of(m.desk, m.campaign))["test"]
        assert test["settled"] == "C" and "the test ended" in test["why"]


def test_a_withdrawal_is_never_older_than_what_it_withdraws(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        purpose = campaigns.row_of(m.desk, m.campaign)["purpose"]
        set_clock(m.desk, NOW + 2 * HOUR)
        consent.said(m.desk, 1, purpose, GIVEN, "form")
        set_clock(m.desk, NOW + 60)
        delivery = next(
            d["id"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first") if d["subscriber"] == 1
        )
        assert answers.unsubscribed(m.desk, delivery)
        for at in (NOW + 60, NOW + 3 * HOUR):
            set_clock(m.desk, at)
            assert m.desk.count('permitted for "News"')[0] == 3


def test_with_a_full_disk_readers_come_to_their_link_and_leave(folder: Path) -> None:
    with mailing(folder, 8) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        answers.take_kept_unsubscribes(m.desk)  # reserves its room
        ids = {d["subscriber"]: d["id"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first")}
        link = m.desk.store.read().execute("SELECT id, url FROM links WHERE NOT trap").fetchone()
        writer = m.desk.store.writer
        writer.execute("VACUUM")
        pages = writer.execute("PRAGMA page_count").fetchone()[0]
        writer.execute("CREATE TABLE filler (x)")
        writer.execute(f"PRAGMA max_page_count = {pages + 2}")
        with pytest.raises(MeadowError), m.desk.store.atomic() as db:
            db.execute("INSERT INTO filler SELECT zeroblob(100000)")
        with m.desk.store.atomic() as db:
            left = writer.execute("PRAGMA freelist_count").fetchone()[0]
            db.execute("INSERT INTO filler VALUES (zeroblob(?))", (max(1, left) * 3000,))
        for i in range(300):  # until nothing fits any more
            answers.opened(m.desk, ids[1], f"Reader {i} {'x' * 400}", "198.51.100.1")
        assert answers.clicked(m.desk, ids[2], link["id"], "Reader" * 100, "198.51.100.1") == link["url"]
        with pytest.raises(MeadowError), m.desk.store.atomic() as db:
            db.execute("INSERT INTO filler SELECT zeroblob(100000)")
        assert SpareFile(folder).keep(ids[3], NOW) and answers.unsubscribed(m.desk, ids[4])
        writer.execute("PRAGMA max_page_count = 1073741823")
        assert answers.take_kept_unsubscribes(m.desk) >= 1 and not SpareFile(folder).records()
        rows = m.desk.store.read().execute("SELECT subscriber FROM events WHERE kind = 10 ORDER BY 1").fetchall()
        assert [r["subscriber"] for r in rows] == [3, 4]


def test_an_import_that_a_full_disk_ends_says_how_far_it_came(folder: Path, tmp_path: Path) -> None:
    store, file = database.Store(folder), tmp_path / "people.csv"
    file.write_text("email,name\n" + "".join(f"p{i}@saltmere.example,{'x' * 200}\n" for i in range(25_000)))
    pages = store.writer.execute("PRAGMA page_count").fetchone()[0]
    store.writer.execute(f"PRAGMA max_page_count = {pages + 1_500}")
    with pytest.raises(MeadowError, match=r"^The disk is full. (10|20),000 of the file's rows are in"):
        subscribers.bring_in(store, file, NOW, "test")
    there = store.read().execute("SELECT count(*) FROM subscribers").fetchone()[0]
    assert there in (10_000, 20_000)
    store.writer.execute("PRAGMA max_page_count = 1000000")
    assert subscribers.bring_in(store, file, NOW, "test").taken == 25_000 - there
    store.close()


def test_what_came_of_it_settles_what_is_unconfirmed(folder: Path) -> None:
    with mailing(folder, 6) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        ids = {d["subscriber"]: d["id"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first")}
        with m.desk.store.atomic() as db:
            for s in (1, 2, 3):
                ledger.mark(db, ids[s], ledger.IN_DOUBT, NOW, "the connection broke")
                db.execute("DELETE FROM events WHERE subscriber = ?", (s,))
        shown = unconfirmed.listed(m.desk, m.campaign)
        assert [(u.subscriber, u.message_id) for u in shown] == [
            (s, m.tokens.message_id(ids[s], m.campaign, DOMAIN)) for s in (1, 2, 3)
        ]
        set_clock(m.desk, NOW + 60)
        answers.opened(m.desk, ids[1], "Reader", "198.51.100.1")
        assert unconfirmed.settle_by_events(m.desk) == 1 and unconfirmed.settle_by_events(m.desk) == 0
        assert unconfirmed.settle(m.desk, m.campaign, False, "test", [ids[2]]) == 1
        sending.send_due(m.desk, m.tokens)
        assert states(m) == {"handed over": 5, "in doubt": 1}
        with pytest.raises(Refused, match="names none of our messages"):
            unconfirmed.read_log(m.desk, m.campaign, "status=sent", "test", complete=True)
        forged = f"message-id=<d{ids[3]}.c{m.campaign}.000000000000@{DOMAIN}>"
        with pytest.raises(Refused, match="names none"):
            unconfirmed.read_log(m.desk, m.campaign, forged, "test", complete=False)
        refused = f"reject: message-id={shown[2].message_id}"
        assert unconfirmed.read_log(m.desk, m.campaign, refused, "test", complete=False).again == 1


def test_a_backup_while_sending_comes_back_paused(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 120) as m:
        campaigns.write(
            m.desk, m.campaign, {"plan": {"lead_share": 0.4, "batches": 1, "interval": HOUR, "resend": False}}
        )
        campaigns.start(m.desk, m.campaign, "test")
        made = backup.back_up(m.desk, tmp_path / "b.tar")
        assert made.as_of == NOW and (tmp_path / "b.tar").stat().st_mode & 0o77 == 0
        with pytest.raises(Refused, match="there already"):
            backup.back_up(m.desk, tmp_path / "b.tar")
        on_time(m, NOW + HOUR)
        assert states(m) == {"handed over": 120}, "the original has gone on to its end"
        sent = dict(m.world.received)
        with pytest.raises(Refused, match="holds files already"):
            backup.restore(tmp_path / "b.tar", folder)
        found = backup.restore(tmp_path / "b.tar", tmp_path / "back")
        assert found.paused == 1 and found.entries == made.entries
        (tmp_path / "back" / "clock").write_text(str(NOW + 2 * HOUR))
        again = Desk(tmp_path / "back")
        worker = Worker(again)
        try:
            worker.tick()
            assert dict(m.world.received) == sent, "nothing goes out of a restored copy by itself"
            paused = outgoing.paused(again)
            assert paused is not None and paused.as_of == NOW and [p.waiting for p in paused.plans] == [120]
            assert [d["act"] for d in today.decisions(again, again.view()) if d["kind"] == "Restored"]
            log = "\n".join(id for id in sent)
            assert outgoing.read_log(again, log, "test") == 120
            outgoing.resume(again, "test")
            worker.tick()
            assert dict(m.world.received) == sent, "nobody a second time"
            with pytest.raises(Refused, match="Nothing is paused"):
                outgoing.resume(again, "test")
        finally:
            worker.close()
            again.close()


@pytest.mark.parametrize(
    ("damage", "said"),
    [
        (lambda b: b[: len(b) // 2], "damaged|not whole|no backup"),
        (lambda b: b[:60_000] + bytes([b[60_000] ^ 255]) + b[60_001:], "is damaged"),
        (lambda b: b"no tar at all", "no backup"),
    ],
)
def test_a_damaged_backup_leaves_nothing_behind(folder: Path, tmp_path: Path, damage: object, said: str) -> None:
    with mailing(folder, 4) as m:
        backup.back_up(m.desk, tmp_path / "b.tar")
    data = (tmp_path / "b.tar").read_bytes()
    (tmp_path / "c.tar").write_bytes(damage(data))  # type: ignore[operator]
    with pytest.raises(MeadowError, match=said):
        backup.restore(tmp_path / "c.tar", tmp_path / "back")
    assert not any((tmp_path / "back").glob("*"))


def test_an_export_while_events_come_is_of_one_moment(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 60) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        ids = [d["id"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first")]
        ends = threading.Event()

        def live() -> None:
            sending.send_due(m.desk, m.tokens)
            n = 0
            while not ends.is_set():
                answers.opened(m.desk, ids[n % 60], f"Reader {n}", "198.51.100.1")
                n += 1

        thread = threading.Thread(target=live)
        thread.start()
        try:
            whole.export(m.desk, tmp_path / "out", "test")
        finally:
            ends.set()
            thread.join()
        other = Desk(tmp_path / "other")
        whole.bring_in(other, tmp_path / "out", "test")
        rows = ledger.of_campaign(other.store.read(), m.campaign, "first")
        sent = {r["subscriber"] for r in other.store.read().execute("SELECT subscriber FROM events WHERE kind = 1")}
        assert {d["subscriber"] for d in rows if d["state"] == "handed over"} == sent, "ledger and events agree"
        assert other.view().alive.sum() == 60 and outgoing.is_paused(other)
        other.close()


def test_a_damaged_mirror_is_never_believed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with mailing(folder, 60) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        right = m.desk.view().columns.rows.first_at.tolist()
        left = folder / f"{mirror.FOLDER}.999999999"
        left.mkdir()
        file = folder / mirror.FOLDER / "rows.first_at.npy"
        first = Desk(folder)
        first.view()
        assert file.exists() and not left.exists(), "what a process that is gone left half written is removed"
        data = bytearray(file.read_bytes())
        data[-1] ^= 255
        file.write_bytes(data)
        assert mirror.load(folder, m.desk.store.read(), m.desk.machines().mark) is None
        again = Desk(folder)
        assert again.view().columns.rows.first_at.tolist() == right
        assert again.score_summary(full=True)["subscribers"] == 60
        first.close()
        again.close()


def test_a_damaged_database_is_said(folder: Path) -> None:
    with mailing(folder, 60) as m:
        assert m.desk.store.damage() == ""
        m.desk.store.checkpoint()
        path = folder / database.FILE
        assert not (folder / f"{database.FILE}-wal").exists() or (folder / f"{database.FILE}-wal").stat().st_size == 0
    data = bytearray(path.read_bytes())
    for i in range(8192, len(data) - 4096, 4096):
        data[i + 3 : i + 40] = bytes(37)
    path.write_bytes(data)
    try:
        desk = Desk(folder)
    except (MeadowError, sqlite3.DatabaseError):
        return  # so damaged that it does not open, which is said as well
    assert desk.store.damage()
    (found,) = workspace_check.check(desk)
    assert found.state == "fail" and "damaged" in found.finding
    with pytest.raises(Damaged):
        backup.back_up(desk, folder / "b.tar")
    desk.store.writer.close()


def test_whatever_fails_the_loop_goes_on(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A job of each kind that fails, a busy database, a taken port: each is noted, and mail that is due goes out."""
    with mailing(folder, 6) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        from openmeadow import worker as module

        with m.desk.store.atomic() as db:
            for kind in module._JOBS:
                workspace.add_job(
                    db, kind, {"path": "/nowhere", "choice": {"rule": "no rule"}, "columns": 7}, "test", NOW
                )
        worker = Worker(m.desk)
        try:
            for _ in range(len(module._JOBS) + 1):
                worker.tick()
            jobs = m.desk.store.read().execute("SELECT state, outcome FROM jobs").fetchall()
            assert {j["state"] for j in jobs} == {"failed"} and all("error" in j["outcome"] for j in jobs)
            assert states(m) == {"handed over": 6}
        finally:
            worker.close()


def test_a_busy_database_is_waited_for(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with mailing(folder, 6) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        m.desk.store.writer.execute("PRAGMA busy_timeout = 50")
        worker = Worker(m.desk)
        other = sqlite3.connect(folder / database.FILE, isolation_level=None)
        try:
            other.execute("BEGIN IMMEDIATE")
            with pytest.raises(Busy, match="try again"), m.desk.store.atomic():
                pass
            worker.tick()
            assert states(m) == {"waiting": 6}
            other.execute("COMMIT")
            worker._not_before.clear()
            worker._relay_was_away = False
            worker.tick()
            assert states(m) == {"handed over": 6}
        finally:
            other.close()
            worker.close()


def test_going_on_is_one_act(folder: Path) -> None:
    """A guardrail that looks in between finds either the pause or the fresh count, never half of it."""
    with mailing(folder, 6) as m:
        campaigns.start(m.desk, m.campaign, "test")
        with m.desk.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"state": "held", "held_why": "because"})
        seen: list[str] = []
        m.desk.store.writer.set_trace_callback(seen.append)
        campaigns.go_on(m.desk, m.campaign, "test")
        campaigns.stop(m.desk, m.campaign, "test")
        m.desk.store.writer.set_trace_callback(None)
        assert [s for s in seen if s.startswith(("BEGIN", "COMMIT"))] == ["BEGIN IMMEDIATE", "COMMIT"] * 2
        row = campaigns.row_of(m.desk, m.campaign)
        assert (row["state"], row["held_why"], states(m)) == ("stopped", "", {"passed over": 6})


def test_synchronous_is_full(folder: Path) -> None:
    """What is committed before DATA is on the disk before DATA."""
    desk = Desk(folder)
    assert desk.store.writer.execute("PRAGMA synchronous").fetchone()[0] == 2
    desk.close()


def test_a_taken_port_of_the_intake_stops_no_mail(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        worker = Worker(m.desk)
        with socket.create_server(("127.0.0.1", int(m.desk.setting("intake_port")))):
            assert worker._duty("intake", worker.listen) is None and worker._not_before["intake"][1] == 1.0
            worker.tick()
        assert states(m) == {"handed over": 4}
        worker._not_before.clear()
        intake = worker._duty("intake", worker.listen)
        intake.stop()
        worker.close()
