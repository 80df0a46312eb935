"""A plan that another program sends: drawn here, told back by its event log, with guardrails, results and the resend."""

from __future__ import annotations

import csv
import io
import zipfile
from collections import Counter
from pathlib import Path

import pytest

from openmeadow.core.errors import Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import campaigns, dispatcher, external_sending, guardrails, results
from openmeadow.services.subscribers import import_events
from openmeadow.services.today import overview
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing

HOUR = 3600


def files(m: Mailing) -> dict[str, list[dict[str, str]]]:
    """The batches as the other program gets them."""
    with zipfile.ZipFile(io.BytesIO(external_sending.archive(m.workspace, m.campaign, "test"))) as z:
        return {n: list(csv.DictReader(io.StringIO(z.read(n).decode()))) for n in z.namelist() if n.endswith(".csv")}


def told(m: Mailing, *lines: tuple[int, str, str], name: str = "Harbour nights") -> None:
    """The other program's event log: (moment, event, address) under the campaign's name, or its own."""
    path = m.workspace.folder / "log.csv"
    rows = "".join(f"{rfc3339(at)},{event},{email},{name}\n" for at, event, email in lines)
    path.write_text("at,event,email,message\n" + rows)
    import_events.run(m.workspace.store, path, m.workspace.now(), "test")
    external_sending.tend(m.workspace)


def states(m: Mailing, kind: str = "first") -> Counter[str]:
    return Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, kind))


def state(m: Mailing) -> str:
    return str(campaigns.row_of(m.workspace, m.campaign).state)


PLAN = {
    "pilot_share": 0.2,
    "batches": 2,
    "interval": HOUR,
    "wait": DAY,
    "holdout_share": 0.2,
    "new_subject": "",
    "second": True,
}


def test_sent_by_another_program_and_told_back(folder: Path) -> None:
    with mailing(folder, 40) as m:
        with m.workspace.store.atomic() as db:  # no sender of ours is needed for that
            campaign_table.update(db, m.campaign, {"from_address": None})
        campaigns.write(m.workspace, m.campaign, {"plan": PLAN})
        with pytest.raises(Refused, match="Choose a from address"):
            campaigns.start(m.workspace, m.campaign, "test")
        assert external_sending.start(m.workspace, m.campaign, "test") == campaigns.Started(people=40, batches=3)
        set_clock(m.workspace, NOW + 3 * HOUR)
        assert dispatcher.send_due(m.workspace, m.tokens) == 0 and not m.world.received.keys() & {"<d1"}, (
            "nothing goes out here"
        )
        assert states(m) == {"queued": 40} and state(m) == "scheduled"
        said = [d.title for d in overview.decisions(m.workspace, m.workspace.view())]
        assert said == ["40 recipients are waiting for the other system to send Harbour nights."]
        assert {lane.kind for lane in overview.day_rows(m.workspace)} == {"external"}
        sheets = files(m)
        assert sorted(sheets) == ["batch-01.csv", "batch-02.csv", "batch-03.csv"]
        everybody = [r["email"] for rows in sheets.values() for r in rows]
        assert len(set(everybody)) == 40

        lead = [r["email"] for r in sheets["batch-01.csv"]]
        told(m, *((NOW + 600, "sent", e) for e in lead))
        assert states(m) == {"sent": len(lead), "queued": 40 - len(lead)} and state(m) == "sending"
        # who says no before the rest is made into files anew is in none of them, and apart with the reason
        rest = [e for e in everybody if e not in lead]
        no, yes_after_all = rest.pop(), rest.pop()
        told(m, *((NOW + 700, "unsubscribed", e) for e in (no, yes_after_all)))
        sheets = files(m)
        assert {r["email"] for r in sheets.pop("excluded.csv")} == {no, yes_after_all}
        assert sorted(r["email"] for rows in sheets.values() for r in rows) == sorted(lead + rest)
        assert states(m)["queued"] == len(rest) + 2, "looking at the files changes nothing"
        assert external_sending.skip(m.workspace, m.campaign) == 2 and states(m)["queued"] == len(rest)
        assert files(m)["excluded.csv"][0]["reason"], "skipped, they stay apart with the reason"
        told(m, (NOW + HOUR, "sent", yes_after_all))  # by the older files
        assert states(m)["skipped"] == 1, "what was sent was sent"
        told(m, *((NOW + HOUR, "delivered", e) for e in rest), (NOW + 2 * HOUR, "bounced", rest[0]))
        told(m, *((NOW + 2 * HOUR, "opened", e) for e in rest[1:11]))
        found = results.results(m.workspace, m.campaign)
        assert (found.sent, found.delivered, found.opened) == (39, 38, 10)
        assert [b.state for b in found.batches if b.kind == "first"] == ["sent"] * 3

        # the resend is drawn when its wait is over, for the other program to send
        set_clock(m.workspace, NOW + DAY + 3 * HOUR)
        assert deliveries.next_due(m.workspace.store.read()) is not None
        external_sending.tend(m.workspace)
        again = deliveries_of(m.workspace.store.read(), m.campaign, "resend")
        assert len(again) == 28 and Counter(d.state for d in again)["skipped"] > 0, "some are holdout group"
        external_sending.skip(m.workspace, m.campaign)
        waits = [r for n, rows in files(m).items() if n.startswith("resend") for r in rows if r["state"] == "queued"]
        assert not {r["email"] for r in waits} & set(rest[1:11]), "nobody who answered"
        assert {n for n in files(m)} == {f"{k}-0{i}.csv" for k in ("batch", "resend") for i in (1, 2, 3)} | {
            "excluded.csv"
        }
        set_clock(m.workspace, NOW + DAY + 6 * HOUR)
        told(m, *((NOW + DAY + 4 * HOUR, "sent", r["email"]) for r in waits))
        assert states(m, "resend")["queued"] == 0
        told(m, (NOW + DAY + 5 * HOUR, "opened", waits[0]["email"]))
        variants = {a.variant: a for a in results.results(m.workspace, m.campaign).variants}
        assert variants["Same subject"].engaged == 1 and variants["Holdout"].people == sum(
            d.reason == "holdout" for d in again
        )

        # a second resend has files of its own, and in the end the plan is finished
        set_clock(m.workspace, NOW + 3 * DAY)
        external_sending.tend(m.workspace)
        external_sending.skip(m.workspace, m.campaign)
        second = [n for n in files(m) if n.startswith("second-resend")]
        assert second and len(files(m)["batch-01.csv"]) == len(lead), "nothing is written over"
        for name in second:
            told(m, *((NOW + 3 * DAY + 60, "sent", r["email"]) for r in files(m)[name] if r["state"] == "queued"))
        assert state(m) == "finished" and deliveries.next_due(m.workspace.store.read()) is None


def test_an_earlier_mailing_of_the_name_keeps_its_own_log(folder: Path) -> None:
    """The page says what the other program's log has to call it."""
    with mailing(folder, 6) as m:
        with m.workspace.store.atomic() as db:
            campaign_table.add_message(db, "Harbour nights", None)
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        external_sending.start(m.workspace, m.campaign, "test")
        assert (
            external_sending.message_name(m.workspace, campaigns.row_of(m.workspace, m.campaign)) == "Harbour nights (2)"
        )
        told(m, (NOW, "sent", "p1@postern.example"))
        assert states(m) == {"queued": 6}, "that was the earlier one"


def test_a_log_may_call_the_mailing_otherwise(folder: Path) -> None:
    with mailing(folder, 6) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        other = campaigns.add(m.workspace, "Another", "test", other=m.campaign)
        with pytest.raises(Refused, match="is not sent with another system"):
            external_sending.call(m.workspace, m.campaign, "quay-2026-03", "test")
        external_sending.start(m.workspace, m.campaign, "test")
        told(m, (NOW, "sent", "p1@postern.example"), (NOW + 60, "clicked", "p1@postern.example"), name="quay-2026-03")
        set_clock(m.workspace, NOW + HOUR)
        assert states(m) == {"queued": 6}, "nothing says that this is the plan's"
        for name, said in (("  ", "column of its log, at most"), ("x" * 201, "at most 200 characters")):
            with pytest.raises(Refused, match=said):
                external_sending.call(m.workspace, m.campaign, name, "test")
        external_sending.call(m.workspace, m.campaign, "quay-2026-03", "test")
        assert states(m) == {"sent": 1, "queued": 5} and state(m) == "sending"
        assert results.results(m.workspace, m.campaign).clicked == 1
        waits = [r["email"] for r in files(m)["batch-01.csv"] if r["state"] == "queued"]
        told(m, *((NOW + 120, "sent", e) for e in waits), name="quay-2026-03")
        assert state(m) == "finished" and states(m)["queued"] == 0
        # a name that nobody knows yet is only kept; another campaign's, or a second log's, is refused
        external_sending.call(m.workspace, m.campaign, "quay-2026-03b", "test")
        assert external_sending.message_name(m.workspace, campaigns.row_of(m.workspace, m.campaign)) == "quay-2026-03b"
        told(m, (NOW + 180, "opened", "p3@postern.example"), name="quay-2026-03")
        with pytest.raises(Refused, match="Undo one of the two imports"):
            external_sending.call(m.workspace, m.campaign, "quay-2026-03", "test")
        same = campaigns.row_of(m.workspace, m.campaign)
        sent_to = {"segments_in": same.segments_in, "purpose": same.purpose}
        campaigns.write(m.workspace, other, {**sent_to, "plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        set_clock(m.workspace, NOW + 2 * DAY)
        external_sending.start(m.workspace, other, "test")
        with pytest.raises(Refused, match="is the message of the campaign “Harbour nights”"):
            external_sending.call(m.workspace, other, "quay-2026-03b", "test")
        campaigns.stop(m.workspace, other, "test")
        external_sending.call(m.workspace, other, "quay-2026-04", "test")
        assert campaigns.row_of(m.workspace, other).state == "stopped", "a name starts nothing again"


def test_guardrails_hold_what_another_program_sends(folder: Path) -> None:
    """The log arrives while it is being sent; the plan is held, and what comes afterwards is kept all the same."""
    with mailing(folder, 200) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.5, "batches": 1, "resend": False}})
        external_sending.start(m.workspace, m.campaign, "test")
        lead = [r["email"] for r in files(m)["batch-01.csv"]]
        set_clock(m.workspace, NOW + HOUR)
        told(m, *((NOW + 60, "sent", e) for e in lead), *((NOW + 900, "complained", e) for e in lead[:8]))
        worker = Worker(m.workspace)
        try:
            assert guardrails.news(m.workspace) and state(m) == "paused"
            assert "omplaint" in campaigns.row_of(m.workspace, m.campaign).paused_why
            rest = [r["email"] for r in files(m)["batch-02.csv"]]
            told(m, *((NOW + 1200, "sent", e) for e in rest[:5]))
            assert states(m) == {"sent": 105, "queued": 95} and state(m) == "paused"
            campaigns.resume(m.workspace, m.campaign, "test")
            worker.tick()
            told(m, *((NOW + 3000, "sent", e) for e in rest[5:]))
            assert state(m) == "finished" and sum(m.world.received.values()) <= 1, "nothing went out from here"
        finally:
            worker.close()


def test_the_demo_clock_passes_batches_that_another_program_sends(folder: Path) -> None:
    with mailing(folder, 10) as m:
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 2, "interval": HOUR, "resend": False}}
        )
        external_sending.start(m.workspace, m.campaign, "test")
        with m.workspace.store.atomic() as db:
            settings.add_clock_move(db, NOW + DAY, NOW)
        worker = Worker(m.workspace)
        try:
            worker.tick()
        finally:
            worker.close()
        assert m.workspace.now() == NOW + DAY, "a moment that has passed holds no clock up"
