"""A plan through the real protocols: DNS and SMTP stand-ins, the ledger, what comes back, the resend."""

from __future__ import annotations

import json
import urllib.request
from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.core.reports.incoming import parse
from openmeadow.demo.mail_world.returned_mail import bounce, complaint
from openmeadow.services.campaigns import (
    campaigns,
    dispatcher,
    guardrails,
    resend,
    results,
    schedule,
    tracking,
    undo_start,
)
from openmeadow.services.health import bounce_intake, providers
from openmeadow.services.segments import segments
from openmeadow.services.senders import domains
from openmeadow.services.subscribers import import_events
from openmeadow.services.today import overview
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.health import providers as provider_table
from openmeadow.store.segments import segments as segment_table
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, look_up, mailing, on_time, ready_campaign
from tests.services.test_acts import put

RETURNS = f"bounce.{DOMAIN}"


def states(m: Mailing, kind: str = "first") -> Counter[str]:
    return Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, kind))


def open_by(m: Mailing, subscribers: list[int], kind: str = "first", agent: str = "Reader", later: int = 600) -> None:
    """These people open what they got, some seconds from now."""
    set_clock(m.workspace, m.workspace.now() + later)
    for d in deliveries_of(m.workspace.store.read(), m.campaign, kind):
        if d.subscriber in subscribers and d.state == "sent":
            tracking.opened(m.workspace, d.id, agent, "198.51.100.1")


def test_a_start_is_taken_back_until_something_went_out(folder: Path) -> None:
    with mailing(folder, 40) as m:
        w, db = m.workspace, m.workspace.store.read()
        campaigns.write(w, m.campaign, {"plan": {"start": NOW + DAY, "resend": True, "test": None}})
        before = campaigns.row_of(w, m.campaign)
        for _ in range(2):
            campaigns.start(w, m.campaign, "ann")
            started = campaigns.row_of(w, m.campaign)
            assert undo_start.may_undo(w, started) and started.message
            undo_start.undo_start(w, m.campaign, "ann")
            row = campaigns.row_of(w, m.campaign)
            assert (row.state, row.message, row.plan, row.segments_in) == ("draft", None, before.plan, before.segments_in)
            assert not deliveries_of(db, m.campaign, "first") and not batch_table.batches(db, m.campaign)
            assert campaign_table.message_called(db, started.name) is None
        with pytest.raises(Refused, match="is draft, so there is no start to undo"):
            undo_start.undo_start(w, m.campaign, "ann")
        campaigns.start(w, m.campaign, "ann")
        on_time(m, NOW + DAY + 60)
        with pytest.raises(Refused, match="The first emails have gone out"):
            undo_start.undo_start(w, m.campaign, "ann")
        assert not undo_start.may_undo(w, campaigns.row_of(w, m.campaign)) and states(m)["sent"]


def test_the_whole_plan(folder: Path) -> None:
    with mailing(folder) as m:
        assert set(look_up(m.workspace)) == {"pass"}, "the published lines prove the domain"
        assert campaigns.start(m.workspace, m.campaign, "test") == campaigns.Started(60, 3)
        dispatcher.send_due(m.workspace, m.tokens)
        assert states(m) == {"sent": 6, "queued": 54}, "only the pilot batch is due"
        assert deliveries.next_due(m.workspace.store.read()) == NOW + 3600
        on_time(m, NOW + 2 * 3600)
        assert states(m) == {"sent": 60}
        assert m.world.placed == {"inbox": 61, "spam": 0}, "DKIM and SPF hold (60 and the confirming mail)"
        assert max(m.world.received.values()) == 1
        letter = m.world.mailboxes["p3@postern.example"][-1]
        assert "Dear P3," in letter["html"] and "/c/" in letter["html"] and "/o/" in letter["html"]

        open_by(m, list(range(1, 31)))
        assert [len(v) for v in m.world.mailboxes.values()].count(1) >= 60
        set_clock(m.workspace, NOW + 3 * DAY + 2 * 3600)
        dispatcher.send_due(m.workspace, m.tokens)
        again = deliveries_of(m.workspace.store.read(), m.campaign, "resend")
        assert {d.subscriber for d in again} == set(range(31, 61)), "only who left it ignored"
        held = [d for d in again if d.reason == "holdout"]
        assert len(held) == sum(round(0.1 * n) for n in Counter(d.batch for d in again).values())
        assert {d.variant for d in again} == {0, 1}
        subjects = {m.world.mailboxes[k][-1]["subject"] for k in m.world.mailboxes if k.startswith("p")}
        assert subjects == {"Harbour nights", "By the water"}

        gone_again = [d.subscriber for d in again if d.state == "sent"]
        who = m.workspace.store.read().execute("SELECT email FROM subscribers WHERE id = ?", (gone_again[12],)).fetchone()
        reply = f"at,event,email,message\n{rfc3339(m.workspace.now())},replied,{who['email']},Harbour nights\n"
        import_events.run(
            m.workspace.store, put(folder, "r.csv", reply), m.workspace.now(), "t"
        )  # in the resend's second
        open_by(m, gone_again[:12], "resend")
        r = results.results(m.workspace, m.campaign)
        assert (r.sent, r.delivered, r.opened) == (60, 60, 43)
        assert (r.engaged_first, r.engaged_all) == (30, 43)
        assert sum(a.engaged for a in r.variants) == 13 and r.variants[-1].variant == "Holdout"
        assert r.why_not[0].count == 60 and (r.why_not[-1].words, r.why_not[-1].count) == ("Sent", 60)
        assert results.as_csv(m.workspace, m.campaign).splitlines()[1].startswith("first,1,6,6,6,")
        assert campaigns.row_of(m.workspace, m.campaign).state == "finished"


def test_nobody_who_answered_or_left_gets_the_resend(folder: Path) -> None:
    with mailing(folder, 20) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "holdout_share": 0.0}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        first = {d.subscriber: d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}
        open_by(m, [1], agent="PrivacyProxy/2.0")
        set_clock(m.workspace, NOW + 4 * DAY)
        batch = next(b for b in batch_table.batches(m.workspace.store.read(), m.campaign) if b.kind == "resend")
        row = campaigns.row_of(m.workspace, m.campaign)
        resend.draw(m.workspace, row, batch_table.batch(m.workspace.store.read(), batch.id))
        tracking.opened(m.workspace, first[2], "Reader", "198.51.100.1")
        assert tracking.unsubscribed(m.workspace, first[3]) and tracking.unsubscribed(m.workspace, first[3])
        dispatcher.send_due(m.workspace, m.tokens)
        again = {d.subscriber: d for d in deliveries_of(m.workspace.store.read(), m.campaign, "resend")}
        assert 1 not in again, "machine-only openers are left out unless the plan takes them in"
        assert again[2].reason == "engaged before the resend"
        assert again[3].reason == "consent withdrawn"
        assert Counter(d.state for d in again.values()) == {"sent": 17, "skipped": 2}


def test_refused_deferred_and_bounced_later(folder: Path) -> None:
    gone = np.full(40, 2**40)
    gone[[1, 3]] = 0
    with mailing(folder, 40, gone=gone) as m:
        emails = m.world.habits.email
        emails[5] = "p5@tidewatch.example"
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        m.world.deferred_once.clear()
        campaigns.start(m.workspace, m.campaign, "test")
        m.world.refusal = _sometimes(m.world.refusal, "p7@postern.example")  # type: ignore[method-assign]
        dispatcher.send_due(m.workspace, m.tokens)
        assert states(m) == {"sent": 37, "failed": 2, "deferred": 1}
        assert deliveries.next_due(m.workspace.store.read()) == NOW + 1800
        set_clock(m.workspace, NOW + 1800)
        dispatcher.send_due(m.workspace, m.tokens)
        assert states(m) == {"sent": 38, "failed": 2}
        worker = Worker(m.workspace)
        intake = worker.listen()
        try:
            d = next(d for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.subscriber == 9)
            for path, to in (
                (m.tokens.return_path(d.id, RETURNS), "p8@saltmere.example"),
                (f"b1-000000000000@{RETURNS}", "p9@postern.example"),
            ):
                m.world._hand_on("", path, bounce(path, to, "<x>").encode())
            other = next(d for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.subscriber == 11)
            path = m.tokens.return_path(other.id, RETURNS)
            m.world._hand_on("", path, complaint(path, "p10@saltmere.example", "<x>", "hello@x").encode())
        finally:
            intake.stop()
            worker.close()
        figures = results.results(m.workspace, m.campaign)
        assert (figures.sent, figures.delivered) == (40, 37), "who was refused was sent to"
        suppressed = {r["subscriber"] for r in m.workspace.store.read().execute("SELECT subscriber FROM suppressions")}
        assert suppressed == {2, 4, 9, 11}, "hard bounces and complaints at once; a forged return path marks nobody"


def _sometimes(refusal: object, address: str) -> object:
    once = [address]

    def answer(to: str) -> str | None:
        if to in once:
            once.remove(to)
            return "451 4.7.1 later"
        return refusal(to)  # type: ignore[operator, no-any-return]

    return answer


def test_hold_go_on_and_stop(folder: Path) -> None:
    with mailing(folder, 30) as m:
        campaigns.start(m.workspace, m.campaign, "test")
        campaigns.pause(m.workspace, m.campaign, "test")
        set_clock(m.workspace, NOW + DAY)
        assert dispatcher.send_due(m.workspace, m.tokens) == 0
        campaigns.resume(m.workspace, m.campaign, "test")
        on_time(m, NOW + 2 * DAY)
        assert states(m) == {"sent": 30}
        assert campaigns.stop(m.workspace, m.campaign, "test") == 0
        set_clock(m.workspace, NOW + 9 * DAY)
        assert dispatcher.send_due(m.workspace, m.tokens) == 0, "a stopped plan sends no resend"
        for act in (campaigns.pause, campaigns.resume, campaigns.stop, campaigns.start):
            with pytest.raises(Refused):
                act(m.workspace, m.campaign, "test")


def test_one_a_day_over_campaigns(folder: Path) -> None:
    with mailing(folder, 10) as m:
        for id in (m.campaign, ready_campaign(m.workspace, "Second")):
            campaigns.write(m.workspace, id, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
            campaigns.start(m.workspace, id, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        second = deliveries_of(m.workspace.store.read(), 2, "first")
        assert {(d.state, d.reason) for d in second} == {("skipped", "frequency limit")}


def test_what_cannot_start_says_why(folder: Path) -> None:
    with mailing(folder, 5) as m:
        fresh = campaigns.add(m.workspace, "Empty", "test")
        with pytest.raises(Refused, match="Choose a purpose"):
            campaigns.start(m.workspace, fresh, "test")
        with pytest.raises(Refused, match="already a campaign"):
            campaigns.add(m.workspace, "empty", "test")
        campaigns.write(m.workspace, m.campaign, {"html": "{{ tovn }}"})
        with pytest.raises(Refused, match="There is no field “tovn”"):
            campaigns.start(m.workspace, m.campaign, "test")
        with m.workspace.store.atomic() as db:
            segment_table.save(db, "Everybody", "ignored at least 99 in a row", NOW)
        campaigns.write(m.workspace, m.campaign, {"html": "<p>x</p>"})
        with pytest.raises(Refused, match="No recipients"):
            campaigns.start(m.workspace, m.campaign, "test")


@pytest.mark.parametrize(
    ("name", "sentence"),
    [
        ("lanternmail.example", "is a free mailbox provider"),
        ("no domain", "is not a domain name"),
        ("", "is not a domain name"),
        ("news.kestrelquay.example", "is already set up"),
    ],
)
def test_domains_that_are_refused(folder: Path, name: str, sentence: str) -> None:
    with mailing(folder, 2) as m, pytest.raises(Refused, match=sentence):
        domains.add_domain(m.workspace, name, "test")


def test_from_addresses(folder: Path) -> None:
    with mailing(folder, 2) as m:
        letter = m.world.mailboxes["hello@news.kestrelquay.example"][-1]
        link = letter["plain"].split("/k/")[1].split()[0]
        assert (
            m.tokens.read(link, "k") and m.tokens.read(link, "u") is None and m.tokens.read(link[:-1] + "x", "k") is None
        )
        for address, words in (
            ("a@lanternmail.example", "is a free mailbox provider"),
            ("a@other.example", "Add that domain first"),
            ("hello", "already exists"),
            ("a b@news.kestrelquay.example", "is not an address"),
        ):
            with pytest.raises(Refused, match=words):
                domains.add_address(m.workspace, 1, address, "test")
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "relay_port", 1)
        with pytest.raises(Exception, match=r"relay at 127\.0\.0\.1 port 1 does not respond"):
            domains.add_address(m.workspace, 1, "second", "test")


def test_the_clock_moves_the_world(folder: Path) -> None:
    """A wished move: every batch and every bounce on the way happens, in its order."""
    with mailing(folder, 12, email=np.array([f"p{i}@tidewatch.example" for i in range(12)]), gone=np.zeros(12)) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        with m.workspace.store.atomic() as db:
            settings.add_clock_move(db, NOW + 6 * 3600, NOW)
        worker = Worker(m.workspace, m.control)
        with pytest.raises(Refused, match="Another worker"):
            Worker(m.workspace)
        intake = worker.listen()
        try:
            worker.tick()
        finally:
            intake.stop()
            worker.close()
        assert m.workspace.now() == NOW + 6 * 3600
        rows = m.workspace.store.read().execute("SELECT kind, at FROM events ORDER BY at, kind").fetchall()
        assert Counter(r["kind"] for r in rows) == {1: 12, 4: 12}
        assert {r["at"] - NOW for r in rows if r["kind"] == 1} == {0, 3600, 7200}
        assert json.load(urllib.request.urlopen(m.control + "/next"))["next"] is None


def test_history_and_own_sends_are_one(folder: Path) -> None:
    """An event log that tells of our own message joins the ledger's figures."""
    with mailing(folder, 4) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        log = folder / "log.csv"
        log.write_text("at,event,email,message,value\n2026-03-12T10:42:00Z,booked,p1@postern.example,Harbour nights,50\n")
        set_clock(m.workspace, NOW + DAY)
        assert import_events.run(m.workspace.store, log, NOW, "test").taken == 1
        assert results.results(m.workspace, m.campaign).opened == 1


def test_a_plan_holds_itself_at_a_provider(folder: Path) -> None:
    """Half of Postern's mailboxes are gone: the plan is held, says where, and goes on without it."""
    gone = np.where(np.arange(240) % 4 == 1, 0, 2**40)
    with mailing(folder, 240, gone=gone) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        row = campaign_table.one(m.workspace.store.read(), m.campaign)
        assert row is not None and row.state == "paused"
        assert row.paused_why.startswith("Hard bounces at Postern: ") and "over the limit of 2%" in row.paused_why
        assert states(m)["queued"] > 100, "nothing more went out"
        seen = guardrails.see(m.workspace, m.campaign)
        assert seen.providers == ["Postern"] and seen.evidence[0].evidence >= 20
        assert any(d.detail == row.paused_why for d in overview.decisions(m.workspace, m.workspace.view()))
        with pytest.raises(Refused, match="no provider “Nobody”"):
            guardrails.without_provider(m.workspace, m.campaign, "Nobody", "ann")
        retired = guardrails.without_provider(m.workspace, m.campaign, "Postern", "ann")
        set_clock(m.workspace, NOW + 60)
        dispatcher.send_due(m.workspace, m.tokens)
        row = campaign_table.one(m.workspace.store.read(), m.campaign)
        assert row is not None and row.state == "finished" and retired > 40
        with pytest.raises(Refused, match="Only a paused campaign can resume without"):
            guardrails.without_provider(m.workspace, m.campaign, "Postern", "ann")


def test_complaints_that_arrive_later_hold_what_still_waits(folder: Path) -> None:
    with mailing(folder, 200) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.25, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        assert guardrails.news(m.workspace) == []
        set_clock(m.workspace, NOW + 600)
        sent = [d for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.state == "sent"]
        for d in sent[:8]:
            report = f"Feedback-Type: abuse\r\nOriginal-Rcpt-To: p{d.subscriber - 1}@postern.example\r\n"
            raw = (
                "From: a@x.example\r\nContent-Type: multipart/report; report-type=feedback-report; boundary=b\r\n\r\n"
                f"--b\r\nContent-Type: message/feedback-report\r\n\r\n{report}\r\n--b--\r\n"
            )
            to = m.tokens.return_path(d.id, RETURNS)
            assert not bounce_intake.take_signed(
                m.workspace, m.tokens, to, raw.encode(), parse(raw.encode()), m.workspace.now()
            )
        (sentence,) = guardrails.news(m.workspace)
        assert (
            sentence.startswith("Complaints")
            and campaign_table.one(m.workspace.store.read(), m.campaign).state == "paused"
        )  # type: ignore[index]
        campaigns.resume(m.workspace, m.campaign, "ann")
        assert guardrails.news(m.workspace) == [], "a decision to go on begins the counting anew"
        set_clock(m.workspace, NOW + 3600)
        dispatcher.send_due(m.workspace, m.tokens)
        assert campaign_table.one(m.workspace.store.read(), m.campaign).state == "finished"  # type: ignore[index]


def test_caps_and_hours_in_a_plan(folder: Path) -> None:
    with mailing(folder, 40) as m:
        plan = {
            "pilot_share": 0.0,
            "batches": 1,
            "interval": 3600,
            "hours": [11, 13],
            "caps": {"Postern": 5},
            "resend": False,
        }
        campaigns.write(m.workspace, m.campaign, {"plan": plan})
        shown = schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign))
        assert [b.people for b in shown.batches if b.people] == [25, 5, 5, 5]
        assert "15 recipients move to a later slot" in shown.note and "too small to detect complaints" in shown.note
        last = NOW // DAY * DAY + DAY + 12 * 3600
        campaigns.write(m.workspace, m.campaign, {"plan": {"no_later_than": last}})
        assert (
            "10 recipients do not fit"
            in schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign)).note
        )
        campaigns.start(m.workspace, m.campaign, "t")
        assert states(m) == {"queued": 30, "skipped": 10}
        for wrong in ({"hours": [13, 11]}, {"weekdays": []}, {"caps": {"Postern": -1}}):
            other = ready_campaign(m.workspace, f"Other {wrong}")
            with pytest.raises(Refused):
                campaigns.write(m.workspace, other, {"plan": wrong})


def test_a_provider_is_found_by_its_mail_hosts(folder: Path) -> None:
    hosted = np.array(["a@quill-saltmere.example", "b@saltmere.example", "c@postern.example", "d@quill-saltmere.example"])
    with mailing(folder, 4, email=hosted) as m:
        names = provider_table.names(m.workspace.store.read())
        rows = m.workspace.store.read().execute("SELECT provider FROM subscribers ORDER BY id")
        assert [names[r["provider"]] for r in rows] == ["Postern", "Other domains", "Postern", "Postern"]
        assert m.workspace.count('provider is "Postern"')[0] == 3, "rules see it at once"
        assert providers.find(m.workspace) == providers.Found(0, 0, 0), "nothing is asked twice in a month"
        id = names.index("Postern")
        segments.save(m.workspace, "Postern's", 'provider is "Postern" and joined more than 1 days ago', "test")
        campaigns.write(m.workspace, m.campaign, {"plan": {"caps": {"Postern": 5}}})
        providers.change(m.workspace, id, "test", name="The Postern", daily_cap=2, limits={"deferrals": 0.5})
        rule = (
            m.workspace.store.read()
            .execute("SELECT rule FROM segments WHERE name = ?", ("Postern's",))
            .fetchone()["rule"]
        )
        assert rule.startswith('provider is "The Postern"') and m.workspace.count(rule)[0] == 3, "what names it goes on"
        assert campaigns.row_of(m.workspace, m.campaign).plan.caps == {"The Postern": 5}
        assert schedule.caps_of(m.workspace, Plan()) == {id: 2} and schedule.caps_of(
            m.workspace, Plan(caps={"The Postern": 5})
        ) == {id: 5}
        assert providers.split(m.workspace, "quill-saltmere.example", "Quill", "test") == 2
        assert m.workspace.count('provider is "Quill"')[0] == 2 and providers.find(m.workspace).moved == 0, (
            "by hand stays"
        )
        quill = provider_table.named(m.workspace.store.read(), "quill")
        assert quill is not None and providers.merge(m.workspace, quill, id, "test") == 2
        assert m.workspace.count('provider is "The Postern"')[0] == 3 and providers.find(m.workspace).moved == 0
        for wrong, said in (
            (lambda: providers.change(m.workspace, 0, "test", name="Rest", limits={}), "Other domains"),
            (
                lambda: providers.change(m.workspace, id, "test", name="x", colour="red", limits={}),
                "is not a colour; write it",
            ),
            (
                lambda: providers.change(m.workspace, id, "test", name="x", daily_cap=0, limits={}),
                "A daily limit is a number",
            ),
            (lambda: providers.change(m.workspace, id, "test", name="x", limits={"deferrals": 2}), "between 0 and 1"),
            (lambda: providers.change(m.workspace, id, "test", name="other domains", limits={}), "already a provider"),
            (lambda: providers.merge(m.workspace, id, id, "test"), "another provider"),
            (lambda: providers.split(m.workspace, "nobody.example", "Quill", "test"), "No subscriber has an address"),
        ):
            with pytest.raises(MeadowError, match=said):
                wrong()
