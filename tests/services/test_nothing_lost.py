"""Nothing twice, nothing lost, nothing undone behind one's back: late batches, full disks, damaged files, restores."""

from __future__ import annotations

import socket
import sqlite3
import threading
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from openmeadow.core.consent.eligibility import GIVEN
from openmeadow.core.errors import Busy, Damaged, MeadowError, Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.moments import DAY
from openmeadow.net.spare_file import SpareFile
from openmeadow.services import archive, backup
from openmeadow.services.campaigns import ab_test, campaigns, dispatcher, outgoing, schedule, tracking, unconfirmed
from openmeadow.services.models import ChangeIn
from openmeadow.services.subscribers import consent, import_subscribers
from openmeadow.services.today import overview, workspace_check
from openmeadow.services.workspace import Workspace
from openmeadow.store import connection, settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import columns_cache
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, mailing, on_time

HOUR = 3600


def states(m: Mailing, kind: str = "first") -> Counter[str]:
    return Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, kind))


def test_a_late_batch_moves_what_follows(folder: Path) -> None:
    with mailing(folder, 40) as m:
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.1, "batches": 3, "interval": 4 * HOUR, "wait": 2 * DAY}}
        )
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        planned = {(b.kind, b.n): b.due_at for b in batch_table.batches(m.workspace.store.read(), m.campaign)}
        set_clock(m.workspace, NOW + 2 * DAY + 4 * HOUR)
        dispatcher.send_due(m.workspace, m.tokens)
        late = 2 * DAY
        after = {(b.kind, b.n): b for b in batch_table.batches(m.workspace.store.read(), m.campaign)}
        assert [after["first", n].state for n in (1, 2, 3, 4)] == ["sent", "sent", "scheduled", "scheduled"]
        for key in (("first", 3), ("first", 4), ("resend", 2), ("resend", 3), ("resend", 4)):
            assert after[key].due_at == planned[key] + late, key
        assert after["first", 2].late == late
        log = m.workspace.store.read().execute("SELECT act FROM activity WHERE act LIKE '%late%'").fetchone()
        assert "batch 2 was sent 48 h late" in log["act"]
        on_time(m, NOW + 12 * DAY)
        again = deliveries_of(m.workspace.store.read(), m.campaign, "resend")
        assert {d.state for d in again if d.reason != "holdout"} == {"sent"}, "none is emptied by the limit"
        assert max(m.world.received.values()) == 1


def test_a_plan_has_at_most_500_batches_and_92_days(folder: Path) -> None:
    with mailing(folder, 60) as m:
        base = {"pilot_share": 0.0, "resend": False}
        for plan, said in (
            ({"largest": 1, "interval": 30 * DAY}, r"This would take"),
            ({"batches": 100, "interval": DAY}, r"100 batches until 2026; .* 92 days"),
        ):
            campaigns.write(m.workspace, m.campaign, {"plan": base | {"batches": 1, "largest": 0} | plan})
            row = campaigns.row_of(m.workspace, m.campaign)
            with pytest.raises(Refused, match=said):
                schedule.preview_plan(m.workspace, row)
            with pytest.raises(Refused, match=said):
                campaigns.start(m.workspace, m.campaign, "test")
        with pytest.raises(Refused, match="6,640 batches until 2571"):
            schedule.check_size(schedule.BatchPlan(1, NOW, 0.0, 6_640, 30 * DAY), 6_640)
        schedule.check_size(schedule.BatchPlan(1, NOW, 0.0, 500, HOUR), 1_000_000)


def test_variants_that_wait_longer_have_batches_of_their_own(folder: Path) -> None:
    with mailing(folder, 60) as m:
        variants = [{"subject": "", "preview": "", "wait": 0}, {"subject": "Later", "preview": "", "wait": 5 * DAY}]
        plan = {
            "pilot_share": 0.0,
            "batches": 2,
            "interval": HOUR,
            "wait": 2 * DAY,
            "holdout_share": 0.0,
            "variants": variants,
        }
        campaigns.write(m.workspace, m.campaign, {"plan": plan})
        campaigns.start(m.workspace, m.campaign, "test")
        on_time(m, NOW + 2 * DAY + 2 * HOUR)
        row = campaigns.row_of(m.workspace, m.campaign)
        assert (row.state, row.paused_why) == ("sending", "")
        rows = m.workspace.store.read().execute(
            "SELECT n, variant, due_at FROM batches WHERE send > 1 ORDER BY n, variant"
        )
        assert [(r["n"], r["variant"]) for r in rows] == [(1, 0), (1, 2), (2, 0), (2, 2)]
        on_time(m, NOW + 6 * DAY)
        assert states(m, "resend") == {"sent": 60}


def test_a_start_in_the_past_is_refused(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"start": NOW - DAY}})
        with pytest.raises(Refused, match=r"11 March, 09:42 \(UTC\), is in the past"):
            campaigns.start(m.workspace, m.campaign, "test")
        assert "is in the past" in schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign)).note


def test_a_start_stops_at_a_change_of_the_campaign_not_of_its_domain(folder: Path) -> None:
    with mailing(folder, 4) as m:
        read = campaigns.row_of(m.workspace, m.campaign)
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE domains SET state = 'warning', selector = 'om202604'")
        beside = campaigns.row_of(m.workspace, m.campaign)
        assert beside != read and not read.changed_in(beside)
        campaigns.write(m.workspace, m.campaign, {"subject": "Another"})
        assert read.changed_in(campaigns.row_of(m.workspace, m.campaign))


def test_a_change_for_those_who_wait_is_never_put_back(folder: Path) -> None:
    with mailing(folder, 60) as m:
        trial = {"figure": "opened", "wait": HOUR, "pick": "better"}
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.2, "batches": 1, "resend": False, "test": trial}}
        )
        ab_test.keep_other(m.workspace, campaigns.row_of(m.workspace, m.campaign), ChangeIn(subject="B"), "test")
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        row = campaigns.row_of(m.workspace, m.campaign)
        shown = ab_test.change(m.workspace, row, ChangeIn(subject="C", only_show=True), "test")
        said = ab_test.change(m.workspace, row, ChangeIn(subject="C"), "test")
        assert shown.version == said.version == "C"
        on_time(m, NOW + DAY)
        subjects = Counter(x["subject"] for box in m.world.mailboxes.values() for x in box if x["subject"] in "ABC")
        assert subjects["C"] == 48, "everybody who waited got what was written for them"
        test = campaigns.row_of(m.workspace, m.campaign).plan.test
        assert test.settled == "C" and "the test ended" in test.why


def test_a_withdrawal_is_never_older_than_what_it_withdraws(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        purpose = campaigns.row_of(m.workspace, m.campaign).purpose
        set_clock(m.workspace, NOW + 2 * HOUR)
        consent.said(m.workspace, 1, purpose, GIVEN, "form")
        set_clock(m.workspace, NOW + 60)
        delivery = next(d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.subscriber == 1)
        assert tracking.unsubscribed(m.workspace, delivery)
        for at in (NOW + 60, NOW + 3 * HOUR):
            set_clock(m.workspace, at)
            assert m.workspace.count('permitted for "News"')[0] == 3


def test_with_a_full_disk_readers_come_to_their_link_and_leave(folder: Path) -> None:
    with mailing(folder, 8) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        tracking.process_stored_unsubscribes(m.workspace)  # reserves its room
        ids = {d.subscriber: d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}
        link = m.workspace.store.read().execute("SELECT id, url FROM links WHERE NOT trap").fetchone()
        writer = m.workspace.store.writer
        writer.execute("VACUUM")
        pages = writer.execute("PRAGMA page_count").fetchone()[0]
        writer.execute("CREATE TABLE filler (x)")
        writer.execute(f"PRAGMA max_page_count = {pages + 2}")
        with pytest.raises(MeadowError), m.workspace.store.atomic() as db:
            db.execute("INSERT INTO filler SELECT zeroblob(100000)")
        with m.workspace.store.atomic() as db:
            left = writer.execute("PRAGMA freelist_count").fetchone()[0]
            db.execute("INSERT INTO filler VALUES (zeroblob(?))", (max(1, left) * 3000,))
        for i in range(300):  # until nothing fits any more
            tracking.opened(m.workspace, ids[1], f"Reader {i} {'x' * 400}", "198.51.100.1")
        assert tracking.clicked(m.workspace, ids[2], link["id"], "Reader" * 100, "198.51.100.1") == link["url"]
        with pytest.raises(MeadowError), m.workspace.store.atomic() as db:
            db.execute("INSERT INTO filler SELECT zeroblob(100000)")
        assert SpareFile(folder).keep(ids[3], NOW) and tracking.unsubscribed(m.workspace, ids[4])
        writer.execute("PRAGMA max_page_count = 1073741823")
        assert tracking.process_stored_unsubscribes(m.workspace) >= 1 and not SpareFile(folder).records()
        rows = m.workspace.store.read().execute("SELECT subscriber FROM events WHERE kind = 10 ORDER BY 1").fetchall()
        assert [r["subscriber"] for r in rows] == [3, 4]


def test_an_import_that_a_full_disk_ends_says_how_far_it_came(folder: Path, tmp_path: Path) -> None:
    store, file = connection.Store(folder), tmp_path / "people.csv"
    file.write_text("email,name\n" + "".join(f"p{i}@saltmere.example,{'x' * 200}\n" for i in range(25_000)))
    pages = store.writer.execute("PRAGMA page_count").fetchone()[0]
    store.writer.execute(f"PRAGMA max_page_count = {pages + 1_500}")
    with pytest.raises(MeadowError, match=r"^The disk is full. [\d,]+ of the file's rows were imported") as e:
        import_subscribers.run(store, file, NOW, "test")
    there = store.read().execute("SELECT count(*) FROM subscribers").fetchone()[0]
    assert 0 < there < 25_000 and f" {there:,} of the file's" in str(e.value)
    store.writer.execute("PRAGMA max_page_count = 1000000")
    assert import_subscribers.run(store, file, NOW, "test").taken == 25_000 - there
    store.close()


def test_what_came_of_it_settles_what_is_unconfirmed(folder: Path) -> None:
    with mailing(folder, 6) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        ids = {d.subscriber: d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}
        with m.workspace.store.atomic() as db:
            for s in (1, 2, 3):
                deliveries.mark(db, ids[s], deliveries.UNCONFIRMED, NOW, "the connection broke")
                db.execute("DELETE FROM events WHERE subscriber = ?", (s,))
        shown = unconfirmed.listed(m.workspace, m.campaign)
        assert [(u.subscriber, u.message_id) for u in shown] == [
            (s, m.tokens.message_id(ids[s], m.campaign, DOMAIN)) for s in (1, 2, 3)
        ]
        set_clock(m.workspace, NOW + 60)
        tracking.opened(m.workspace, ids[1], "Reader", "198.51.100.1")
        assert unconfirmed.resolve_by_events(m.workspace) == 1 and unconfirmed.resolve_by_events(m.workspace) == 0
        assert unconfirmed.resolve(m.workspace, m.campaign, False, "test", [ids[2]]) == 1
        dispatcher.send_due(m.workspace, m.tokens)
        assert states(m) == {"sent": 5, "unconfirmed": 1}
        with pytest.raises(Refused, match="names none of our messages"):
            unconfirmed.read_log(m.workspace, m.campaign, "status=sent", "test", complete=True)
        forged = f"message-id=<d{ids[3]}.c{m.campaign}.000000000000@{DOMAIN}>"
        with pytest.raises(Refused, match="names none"):
            unconfirmed.read_log(m.workspace, m.campaign, forged, "test", complete=False)
        refused = f"reject: message-id={shown[2].message_id}"
        assert unconfirmed.read_log(m.workspace, m.campaign, refused, "test", complete=False).again == 1


def test_a_backup_while_sending_comes_back_paused(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 120) as m:
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.4, "batches": 1, "interval": HOUR, "resend": False}}
        )
        campaigns.start(m.workspace, m.campaign, "test")
        made = backup.back_up(m.workspace, tmp_path / "b.tar")
        assert made.as_of == NOW and (tmp_path / "b.tar").stat().st_mode & 0o77 == 0
        with pytest.raises(Refused, match="already exists"):
            backup.back_up(m.workspace, tmp_path / "b.tar")
        on_time(m, NOW + HOUR)
        assert states(m) == {"sent": 120}, "the original has gone on to its end"
        sent = dict(m.world.received)
        with pytest.raises(Refused, match="is not empty"):
            backup.restore(tmp_path / "b.tar", folder)
        found = backup.restore(tmp_path / "b.tar", tmp_path / "back")
        assert found.paused == 1 and found.entries == made.entries
        (tmp_path / "back" / "clock").write_text(str(NOW + 2 * HOUR))
        again = Workspace(tmp_path / "back")
        worker = Worker(again)
        try:
            worker.tick()
            assert dict(m.world.received) == sent, "nothing goes out of a restored copy by itself"
            paused = outgoing.paused(again)
            assert paused is not None and paused.as_of == NOW and [p.waiting for p in paused.plans] == [120]
            assert [d.act for d in overview.decisions(again, again.view()) if d.kind == "Restored"]
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
        (lambda b: b[: len(b) // 2], "damaged|not whole|not a readable backup"),
        (lambda b: b[:60_000] + bytes([b[60_000] ^ 255]) + b[60_001:], "is damaged"),
        (lambda b: b"no tar at all", "not a readable backup"),
    ],
)
def test_a_damaged_backup_leaves_nothing_behind(folder: Path, tmp_path: Path, damage: object, said: str) -> None:
    with mailing(folder, 4) as m:
        backup.back_up(m.workspace, tmp_path / "b.tar")
    data = (tmp_path / "b.tar").read_bytes()
    (tmp_path / "c.tar").write_bytes(damage(data))  # type: ignore[operator]
    with pytest.raises(MeadowError, match=said):
        backup.restore(tmp_path / "c.tar", tmp_path / "back")
    assert not any((tmp_path / "back").glob("*"))


def test_an_export_while_events_come_is_of_one_moment(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 60) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        ids = [d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")]
        ends = threading.Event()

        def live() -> None:
            dispatcher.send_due(m.workspace, m.tokens)
            n = 0
            while not ends.is_set():
                tracking.opened(m.workspace, ids[n % 60], f"Reader {n}", "198.51.100.1")
                n += 1

        thread = threading.Thread(target=live)
        thread.start()
        try:
            archive.export(m.workspace, tmp_path / "out", "test")
        finally:
            ends.set()
            thread.join()
        other = Workspace(tmp_path / "other")
        archive.import_tables(other, tmp_path / "out", "test")
        rows = deliveries_of(other.store.read(), m.campaign, "first")
        sent = {r["subscriber"] for r in other.store.read().execute("SELECT subscriber FROM events WHERE kind = 1")}
        assert {d.subscriber for d in rows if d.state == "sent"} == sent, "ledger and events agree"
        assert other.view().alive.sum() == 60 and outgoing.is_paused(other)
        other.close()


def test_a_damaged_mirror_is_never_believed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with mailing(folder, 60) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        right = m.workspace.view().columns.rows.first_at.tolist()
        left = folder / f"{columns_cache.FOLDER}.999999999"
        left.mkdir()
        file = folder / columns_cache.FOLDER / "rows.first_at.npy"
        first = Workspace(folder)
        first.view()
        assert file.exists() and not left.exists(), "what a process that is gone left half written is removed"
        data = bytearray(file.read_bytes())
        data[-1] ^= 255
        file.write_bytes(data)
        assert columns_cache.load(folder, m.workspace.store.read(), m.workspace.machines().mark) is None
        again = Workspace(folder)
        assert again.view().columns.rows.first_at.tolist() == right
        assert again.score_summary(full=True).subscribers == 60
        first.close()
        again.close()


def test_a_damaged_database_is_said(folder: Path) -> None:
    with mailing(folder, 60) as m:
        assert m.workspace.store.damage() == ""
        m.workspace.store.checkpoint()
        path = folder / connection.FILE
        assert not (folder / f"{connection.FILE}-wal").exists() or (folder / f"{connection.FILE}-wal").stat().st_size == 0
    data = bytearray(path.read_bytes())
    for i in range(8192, len(data) - 4096, 4096):
        data[i + 3 : i + 40] = bytes(37)
    path.write_bytes(data)
    try:
        workspace = Workspace(folder)
    except (MeadowError, sqlite3.DatabaseError):
        return  # so damaged that it does not open, which is said as well
    assert workspace.store.damage()
    (found,) = workspace_check.check(workspace)
    assert found.state == "fail" and "damaged" in found.finding
    with pytest.raises(Damaged):
        backup.back_up(workspace, folder / "b.tar")
    workspace.store.writer.close()


def test_whatever_fails_the_loop_goes_on(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A job of each kind that fails, a busy database, a taken port: each is noted, and mail that is due goes out."""
    with mailing(folder, 6) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        from openmeadow.worker import jobs as module

        with m.workspace.store.atomic() as db:
            for kind in module._JOBS:
                settings.add_job(
                    db, kind, '{"path": "/nowhere", "choice": {"rule": "no rule"}, "columns": 7}', "test", NOW
                )
        worker = Worker(m.workspace)
        try:
            for _ in range(len(module._JOBS) + 1):
                worker.tick()
            jobs = m.workspace.store.read().execute("SELECT state, outcome FROM jobs").fetchall()
            assert {j["state"] for j in jobs} == {"failed"} and all("error" in j["outcome"] for j in jobs)
            assert states(m) == {"sent": 6}
        finally:
            worker.close()


def _busy() -> Iterator[int]:
    raise Busy("Something else has been writing for 60 s.")
    yield 0


def test_a_busy_database_is_waited_for(folder: Path) -> None:
    with mailing(folder, 6) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        m.workspace.store.patience = 0.05
        worker = Worker(m.workspace)
        other = sqlite3.connect(folder / connection.FILE, isolation_level=None)
        try:
            other.execute("BEGIN IMMEDIATE")
            with pytest.raises(Busy, match="try again"), m.workspace.store.atomic():
                pass
            worker.tick()
            assert states(m) == {"queued": 6}
            other.execute("COMMIT")
            with pytest.raises(Busy):  # the plan is not at fault, and goes on
                dispatcher._take_turn(m.workspace, CampaignId(m.campaign), _busy())
            assert campaigns.row_of(m.workspace, m.campaign).state == "scheduled"
            worker._not_before.clear()
            worker._relay_was_away = False
            worker.tick()
            assert states(m) == {"sent": 6}
        finally:
            other.close()
            worker.close()


def test_going_on_is_one_act(folder: Path) -> None:
    """A guardrail that looks in between finds either the pause or the fresh count, never half of it."""
    with mailing(folder, 6) as m:
        campaigns.start(m.workspace, m.campaign, "test")
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"state": "paused", "paused_why": "because"})
        seen: list[str] = []
        m.workspace.store.writer.set_trace_callback(seen.append)
        campaigns.resume(m.workspace, m.campaign, "test")
        campaigns.stop(m.workspace, m.campaign, "test")
        m.workspace.store.writer.set_trace_callback(None)
        assert [s for s in seen if s.startswith(("BEGIN", "COMMIT"))] == [
            "BEGIN IMMEDIATE",
            "COMMIT",
        ] * 3  # who waits is skipped afterwards, in parts
        row = campaigns.row_of(m.workspace, m.campaign)
        assert (row.state, row.paused_why, states(m)) == ("stopped", "", {"skipped": 6})


def test_synchronous_is_full(folder: Path) -> None:
    """What is committed before DATA is on the disk before DATA."""
    workspace = Workspace(folder)
    assert workspace.store.writer.execute("PRAGMA synchronous").fetchone()[0] == 2
    workspace.close()


def test_a_taken_port_of_the_intake_stops_no_mail(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        worker = Worker(m.workspace)
        with socket.create_server(("127.0.0.1", int(m.workspace.setting("intake_port")))):
            assert worker._duty("intake", worker.listen) is None and worker._not_before["intake"][1] == 1.0
            worker.tick()
        assert states(m) == {"sent": 4}
        worker._not_before.clear()
        intake = worker._duty("intake", worker.listen)
        intake.stop()
        worker.close()
