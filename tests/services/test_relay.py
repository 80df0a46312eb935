"""Whose refusal is it: a relay that refuses us marks nobody, and after the repair everybody goes on from where they were."""

from __future__ import annotations

import json
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.delivery.smtp_refusals import IN_A_ROW, RefusalRun, Stage, Whose, whose
from openmeadow.core.errors import Missing
from openmeadow.net import heartbeat
from openmeadow.services.campaigns import campaigns, dispatcher, requeue
from openmeadow.services.senders import relay
from openmeadow.services.today import alerts, overview, process_watch
from openmeadow.store import settings
from openmeadow.store.senders import relay as relay_table
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.relays import RealRelay, use
from tests.services.mailing import Mailing, deliveries_of, mailing


@pytest.fixture
def started(folder: Path) -> Iterator[tuple[Mailing, RealRelay]]:
    """Sixty people at two providers, one batch due now, through a relay that wants TLS and a password."""
    with mailing(folder) as m:
        real = RealRelay(folder)
        use(m, real)
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        yield m, real
        real.close()


def states(m: Mailing) -> Counter[str]:
    return Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"))


def events_of(m: Mailing) -> Counter[int]:
    row = campaigns.row_of(m.workspace, m.campaign)
    rows = m.workspace.store.read().execute("SELECT kind FROM events WHERE message = ?", (row.message,))
    return Counter(r["kind"] for r in rows)


REFUSALS: dict[str, Callable[[RealRelay], None]] = {
    "530 Must issue a STARTTLS command first": lambda r: setattr(
        r, "mail", lambda _: "530 Must issue a STARTTLS command first"
    ),
    "550 5.7.1 you may not send as this": lambda r: setattr(r, "mail", lambda _: "550 5.7.1 you may not send as this"),
    "554 5.7.1 Relay access denied": lambda r: setattr(r, "rcpt", lambda _: "554 5.7.1 Relay access denied"),
    "550 5.7.1 policy": lambda r: setattr(r, "rcpt", lambda _: "550 5.7.1 policy"),
    "550 no": lambda r: setattr(r, "content", lambda _: "550 no"),
    "451 4.7.0 slow down": lambda r: setattr(r, "rcpt", lambda _: "451 4.7.0 slow down"),
    "550 5.1.1 unknown": lambda r: setattr(r, "rcpt", lambda a: f"550 5.1.1 <{a}> unknown"),
}


@pytest.mark.parametrize("said", list(REFUSALS))
def test_a_refusal_that_is_about_us_marks_nobody(started: tuple[Mailing, RealRelay], said: str) -> None:
    m, real = started
    usual = real.mail, real.rcpt, real.content
    REFUSALS[said](real)
    dispatcher.send_due(m.workspace, m.tokens)
    row = campaigns.row_of(m.workspace, m.campaign)
    assert row.state == "paused" and said.split(" ", maxsplit=1)[0] in row.paused_why, "it pauses with the relay's words"
    assert states(m) == {"queued": 60} and not events_of(m) and not real.took
    assert not m.workspace.store.read().execute("SELECT 1 FROM suppressions").fetchone()
    real.mail, real.rcpt, real.content = usual
    campaigns.resume(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    assert states(m) == {"sent": 60}, "after the repair everybody goes on"
    assert Counter(Counter(to for to, _ in real.took).values()) == {1: 60} and events_of(m) == {1: 60}


def test_a_refusal_of_one_person_or_provider_stays_theirs(started: tuple[Mailing, RealRelay]) -> None:
    m, real = started

    def answer(address: str) -> str | None:
        if address.startswith("p1@"):
            return "550 5.1.1 no such user"
        if address.startswith(("p3@", "p5@")):
            return "550 5.7.1 blocked for spam"
        return "451 4.7.1 greylisted" if address.startswith("p2@") else None

    real.rcpt = answer
    dispatcher.send_due(m.workspace, m.tokens)
    assert states(m) == {"sent": 56, "failed": 1, "deferred": 3}
    assert events_of(m) == {1: 57, 3: 3, 4: 1}, "blocked and greylisted are put off, and nobody's bounce"
    reasons = m.workspace.store.read().execute("SELECT reason FROM deliveries WHERE state = 'deferred' ORDER BY reason")
    assert [r["reason"] for r in reasons] == ["451 4.7.1 greylisted", *["blocked: 550 5.7.1 blocked for spam"] * 2]
    real.rcpt = lambda _: None
    set_clock(m.workspace, NOW + 1800)
    dispatcher.send_due(m.workspace, m.tokens)
    assert states(m) == {"sent": 59, "failed": 1}


def test_people_marked_wrongly_go_back_in_one_act(started: tuple[Mailing, RealRelay]) -> None:
    m, real = started
    real.rcpt = lambda a: "550 5.1.1 no such user" if a.endswith("@postern.example") else None
    dispatcher.send_due(m.workspace, m.tokens)
    failed = states(m)["failed"]
    assert failed >= 20, "at one provider alone it is about its people, until the guardrail pauses the plan"
    (group,) = requeue.groups(m.workspace, m.campaign)
    assert group.people == failed and "no such user" in group.example
    assert m.workspace.store.read().execute("SELECT count(*) FROM suppressions").fetchone()[0] == failed
    real.rcpt = lambda _: None
    assert requeue.put_back(m.workspace, m.campaign, group.words, "test") == failed
    assert set(events_of(m)) == {1} and not m.workspace.store.read().execute("SELECT 1 FROM suppressions").fetchone()
    campaigns.resume(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    assert states(m) == {"sent": 60}
    assert Counter(Counter(to for to, _ in real.took).values()) == {1: 60}
    with pytest.raises(Missing, match="any more"):
        requeue.put_back(m.workspace, m.campaign, group.words, "test")


def test_a_relay_that_is_away_and_comes_back(started: tuple[Mailing, RealRelay], folder: Path) -> None:
    m, real = started
    real.close()
    worker = Worker(m.workspace)
    try:
        for _ in range(3):
            worker.tick()
        gone = relay.away(m.workspace)
        assert gone is not None and gone.waiting == 60 and "refused" in gone.meaning
        assert worker._not_before["relay"][1] == 1.0, "the pause is kept between the ticks"
        (told,) = [d for d in overview.decisions(m.workspace, m.workspace.view()) if d.kind == "Relay"]
        assert "60 deliveries are queued" in told.detail and "Since 12 Mar, 09:42 UTC" in told.detail
        assert not [n for n in alerts.news(m.workspace) if "relay" in n.sentence], "an alert comes after five minutes"
        set_clock(m.workspace, NOW + 301)
        assert [n for n in alerts.news(m.workspace) if "relay" in n.sentence]
        again = RealRelay(folder, port=real.port)
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "relay_ca", str(again.ca))
        worker._not_before["relay"] = (0.0, 1.0)
        worker.tick()
        again.close()
        assert relay.away(m.workspace) is None and states(m) == {"sent": 60}
    finally:
        worker.close()


def test_what_real_connections_were_is_the_record(started: tuple[Mailing, RealRelay]) -> None:
    m, _ = started
    assert relay.finding(m.workspace).state == "unknown", "nothing has been sent yet"
    dispatcher.send_due(m.workspace, m.tokens)
    found = relay.finding(m.workspace)
    assert found.state == "pass" and "TLSv1.3" in found.found and "verified" in found.found
    (kind,) = relay_table.connections_to(m.workspace.store.read(), "127.0.0.1", int(m.workspace.setting("relay_port")))
    assert (kind.mode, kind.verified, kind.signed_in) == ("starttls", True, True)
    with m.workspace.store.atomic() as db:
        settings.set_setting(db, "relay_host", "relay.kestrelquay.example")
        settings.set_setting(db, "relay_tls", "none")
    assert [d.title for d in overview.decisions(m.workspace, m.workspace.view()) if d.kind == "Unencrypted"]


def test_the_check_says_what_to_do(started: tuple[Mailing, RealRelay]) -> None:
    m, real = started
    assert relay.check(m.workspace, "p1@postern.example").state == "pass" and len(real.took) == 1
    document = json.loads(json.dumps(relay.check(m.workspace).json()))
    assert document["tls"] == {"mode": "starttls", "version": "TLSv1.3", "verified": True} and document["signed_in"]
    for setting, value, words_said, remedy in (
        ("relay_user", "nobody", "rejected the sign-in", "relay_password"),
        ("relay_ca", "", "not trusted", "relay_ca"),
        ("relay_port", 1, "does not respond: the connection was", "relay_port"),
        ("relay_host", "relay.nowhere.test", "not found in the DNS", "Check relay_host for a typo, and"),
    ):
        before = m.workspace.setting(setting)
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, setting, value)
        found = relay.check(m.workspace)
        assert found.state == "fail" and words_said in found.meaning and remedy in found.meaning, found
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, setting, before)
    real.mail = lambda _: "550 5.7.1 you may not send as this"
    found = relay.check(m.workspace, "p1@postern.example")
    assert found.state == "fail" and "rejected the sender" in found.meaning and "allowed senders" in found.meaning


def test_a_worker_that_does_not_report_is_said(folder: Path) -> None:
    with mailing(folder, 4) as m:
        assert process_watch.worker_silent(m.workspace) == -1 and not process_watch.readiness(m.workspace).is_ready
        heart = heartbeat.Heart(folder, heartbeat.WORKER)
        assert process_watch.worker_silent(m.workspace) is None and process_watch.readiness(m.workspace).is_ready
        heart.stop()
        old = time.time() - 300
        os.utime(folder / heartbeat.WORKER, (old, old))
        assert 300 <= (process_watch.worker_silent(m.workspace) or 0) < 310
        (problem,) = process_watch.readiness(m.workspace).problems
        assert "has not reported for 5 min" in problem


@given(
    st.sampled_from(list(Stage)),
    st.sampled_from(["421", "450", "451", "530", "535", "550", "554"]),
    st.sampled_from(["4.7.1", "5.7.1", "5.1.1", "4.2.2", ""]),
    st.text(max_size=40).filter(lambda t: not any(c.isdigit() for c in t)),
)
def test_whose(stage: Stage, code: str, enhanced: str, text: str) -> None:
    about = whose(stage, code, f"{enhanced} {text}")
    if stage not in (Stage.RECIPIENT, Stage.CONTENT) or code in ("530", "535"):
        assert about is Whose.SENDER
    elif enhanced in ("4.7.1", "5.7.1"):
        assert about in (Whose.POLICY, Whose.SENDER)
    elif enhanced:
        assert about is Whose.RECIPIENT


def test_a_row_is_broken_by_whatever_is_accepted() -> None:
    run = RefusalRun()
    for i in range(IN_A_ROW - 1):
        assert not run.refused("550", f"<p{i}@x.example> no", Whose.RECIPIENT, i % 2, (i, 1))
    run.accepted()
    for i in range(IN_A_ROW - 1):
        assert not run.refused("550", f"<p{i}@x.example> no", Whose.RECIPIENT, 1, (i, 1))
    assert not run.refused("550", "no", Whose.RECIPIENT, 1, (99, 1)), "other words"
    for i in range(IN_A_ROW * 2):
        assert not run.refused("550", "gone", Whose.RECIPIENT, 1, (i, 1)), "at one provider alone"
    assert len(run.refused("550", "gone", Whose.RECIPIENT, 2, (1, 1))) == IN_A_ROW * 2 + 1
