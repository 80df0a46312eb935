"""Asking for consent again, once; and the clean-up: tried, asked for a click, let go on the record."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from flask.testing import FlaskClient
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.columns import DAY
from openmeadow.core.consent import clean_up as core
from openmeadow.core.consent.clean_up import Agreement, Stay, next_step
from openmeadow.core.engagement.replay import FINE_DAYS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.intake.moments import rfc3339
from openmeadow.desk import acts, asking, campaigns, checking, clean_up, consent, planning, recipients, sending
from openmeadow.desk.bring_in import events, subscribers
from openmeadow.desk.cutoff import Replays
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns as table
from openmeadow.store import consent as evidence
from openmeadow.store import ledger
from openmeadow.web.app import make_app
from tests.conftest import NOW, set_clock
from tests.desk.mailing import Mailing, mailing
from tests.desk.test_acts import put

MORE = """email,name,joined_at,list,consent:News,consent_source:News,consent:Family
none1@postern.example,N1,2024-01-01,Fair,none,,none
none2@postern.example,N2,2024-01-01,Fair,none,,none
booked@postern.example,B,2024-01-01,Fair,none,,none
left@postern.example,L,2024-01-01,Fair,withdrawn,,none
old@postern.example,O,2023-01-01,Fair,given,Fair of 2023,none
"""


@pytest.fixture
def running(folder: Path) -> Iterator[tuple[Mailing, FlaskClient]]:
    with mailing(folder, 6) as m:
        subscribers.bring_in(m.desk.store, put(folder, "more.csv", MORE), NOW, "t")
        log = "at,event,email,message,value\n2025-06-01T10:00:00Z,booked,booked@postern.example,,40\n"
        events.bring_in(m.desk.store, put(folder, "log.csv", log), NOW, "t")
        with make_app(m.desk).test_client() as client:
            yield m, client


def go(m: Mailing) -> None:
    while sending.send_due(m.desk, m.tokens):
        pass


def pages(m: Mailing, email: str, at: int = -1) -> list[str]:
    return re.findall(r"http://[^\s/]+(/[kp]/[^\s)]+)", m.world.mailboxes[email][at]["plain"])


def count(m: Mailing, rule: str) -> int:
    return m.desk.count(rule)[0]


def test_asked_once_and_by_one_click_each(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    found = asking.look(m.desk, ["News", "Family"], True, 365, ["Fair of 2023"])
    assert {g["words"]: g["count"] for g in found["groups"]} == {
        "Consent none": 11,
        "Consent older than 365 days": 7,
        "From a source in doubt": 1,
    }
    assert found["people"] == 11 and found["unrelated"] == 2 and found["permitted"] == 8, "who withdrew is not asked"
    for wrong, sentence in (
        (lambda: asking.look(m.desk, [], True, 0, []), "at least one purpose"),
        (lambda: asking.look(m.desk, ["News"], False, 0, []), "Say whom"),
        (lambda: asking.ready(m.desk, ["News"], True, 0, [], "", 3, "ann"), "7 to 365"),
        (lambda: asking.ready(m.desk, ["News"], False, 9000, [], "", 0, "ann"), "Nobody has to be asked"),
    ):
        with pytest.raises(Refused, match=sentence):
            wrong()
    with pytest.raises(Missing, match="no purpose “Opera”"):
        asking.look(m.desk, ["Opera"], True, 0, [])
    id = asking.ready(m.desk, ["News", "Family"], True, 0, [], "Stood at our table at the fair", 30, "ann")
    row = campaigns.row_of(m.desk, id)
    assert row["kind"] == "consent request" and not planning.plan_of(row)["resend"]
    campaigns.write(m.desk, id, {"plan": {"resend": True}})
    assert not planning.plan_of(campaigns.row_of(m.desk, id))["resend"], "a second one is refused"
    campaigns.write(m.desk, id, {"html": row["html"].replace("agree_2", "name")})
    stops = [c["finding"] for c in checking.checks(m.desk, campaigns.row_of(m.desk, id)) if c["level"] == "stop"]
    assert stops == ["Nothing in the message says yes to Family: put {{ agree_2 }} as a link."]
    campaigns.write(m.desk, id, {"html": row["html"], "plan": {"batches": 1, "lead_share": 0.0}})
    assert campaigns.start(m.desk, id, "ann")["people"] == 10
    go(m)
    yes_news, _, preferences, *_ = pages(m, "none1@postern.example")
    assert b"Shall we write to you about News?" in client.get(yes_news).data
    assert count(m, 'consent to "News" by email is given') == 7, "a machine that follows links agrees to nothing"
    set_clock(m.desk, NOW + 3600)
    for _ in range(2):
        assert b"We write to you about News." in client.post(yes_news).data
    assert client.get(preferences).status_code == 200
    assert len(list(evidence.entries(m.desk.store.read(), 7))) == 3, "pressed twice, written once"
    name = row["name"]
    assert count(m, f'in segment "{name}: agreed"') == 1 and count(m, f'in segment "{name}: silent"') == 9
    client.post("/u/" + m.tokens.make("u", _delivery(m, id, "none2@postern.example")))
    assert count(m, 'consent to "Family" by email is withdrawn') == 1 and count(m, f'in segment "{name}: silent"') == 8
    assert asking.requests(m.desk)[0] | {"id": 0} == {
        "id": 0,
        "name": name,
        "state": "finished",
        "started_at": NOW,
        "asks": ["News", "Family"],
        "mailed": 10,
        "agreed": 1,
        "silent": 8,
        "let_go_days": 30,
        "let_go_done": None,
    }
    set_clock(m.desk, NOW + 2 * DAY)
    again = asking.ready(m.desk, ["News"], True, 0, [], "as before", 0, "ann")
    sieve = dict(recipients.work_out(m.desk, campaigns.row_of(m.desk, again)).sieve)
    assert sieve["Asked for consent once already"] == -1 and sieve["Permitted"] == 0
    with pytest.raises(Refused, match="Nobody would receive this: asked for consent once already"):
        campaigns.start(m.desk, again, "ann")
    assert asking.let_silent_go(m.desk) == 0
    set_clock(m.desk, NOW + 31 * DAY)
    assert asking.let_silent_go(m.desk) == 8 and asking.let_silent_go(m.desk) == 0
    assert count(m, 'suppressed for "let go"') == 8
    assert client.post("/k/" + m.tokens.make("r", 1, 99)).status_code == 404
    yes_news = pages(m, "old@postern.example")[0]
    assert b"We write" in client.post(yes_news).data
    assert count(m, 'suppressed for "let go"') == 7, "a new consent of their own brings them back"


def _delivery(m: Mailing, campaign: int, email: str) -> int:
    rows = ledger.of_campaign(m.desk.store.read(), campaign, "first")
    id = m.desk.store.read().execute("SELECT id FROM subscribers WHERE email = ?", (email,)).fetchone()["id"]
    return next(int(r["id"]) for r in rows if r["subscriber"] == id)


def history(folder: Path, desk: Desk) -> None:
    """Six messages over six months nobody answered for long: p0-p3 silent, p4 read by a proxy, p5 books."""
    lines = ["at,event,email,message,agent,ip,value"]
    for n in range(8):
        at = NOW - (300 - 30 * n) * DAY
        for i in range(6):
            email = f"p{i}@{'postern.example' if i % 2 else 'saltmere.example'}"
            lines.append(f"{rfc3339(at)},sent,{email},Letter {n},,,")
            if i == 4:
                lines.append(f"{rfc3339(at + 1)},opened,{email},Letter {n},Fetcher,192.0.2.9,")
            if n == 0:
                lines.append(f"{rfc3339(at + 4000)},clicked,{email},Letter 0,Browser,198.51.100.1,")
    lines.append(f"{rfc3339(NOW - 290 * DAY)},booked,p5@postern.example,,,,30")
    events.bring_in(desk.store, put(folder, "history.csv", "\n".join(lines) + "\n"), NOW, "t")


TERMS = {"after_days": 180, "tries": 2, "wait_days": 14, "ask_veiled": True, "by_itself": False}


def groups(m: Mailing) -> dict[str, int]:
    return {g["step"]: g["count"] for g in clean_up.see(m.desk, Replays(m.desk))["groups"]}


def test_tried_asked_and_let_go(folder: Path) -> None:
    with mailing(folder, 6) as m, make_app(m.desk).test_client() as client:
        history(folder, m.desk)
        with pytest.raises(Refused, match="no agreement yet"):
            clean_up.run(m.desk, "ann")
        with pytest.raises(Refused, match="Choose the purpose"):
            clean_up.agree(m.desk, TERMS, "Opera", "ann")
        seen = clean_up.see(m.desk, Replays(m.desk))
        assert not seen["agreed"] and seen["after_days"] == 270, "proposed: the window of this list"
        clean_up.agree(m.desk, TERMS, "News", "ann")
        seen = clean_up.see(m.desk, Replays(m.desk))
        assert seen["agreed"] and seen["protected"] == 1, "whoever books is never let go"
        assert seen["saving"]["messages"] == {"beyond": 6, "all": 48} and seen["saving"]["answers"]["beyond"] == 0
        assert groups(m) == {core.BEGIN: 4, core.ASK_FOR_CLICK: 1, core.AGAIN: 0, core.LET_GO: 0}
        assert count(m, "suppressed") == 0 and not m.world.mailboxes.get("p0@saltmere.example"), "nothing by itself"
        clean_up.run(m.desk, "ann")
        go(m)
        assert groups(m)[core.WAIT] == 5
        boxes = {e: [x["subject"] for x in m.world.mailboxes[e]] for e in m.world.mailboxes if e.startswith("p")}
        assert boxes["p0@saltmere.example"] == ["Shall we keep writing to you?"]
        assert boxes["p4@saltmere.example"] == ["Do our messages reach you?"] and "p5@postern.example" not in boxes
        stay = pages(m, "p0@saltmere.example")[0]
        assert b"Shall we keep writing" in client.get(stay).data
        set_clock(m.desk, NOW + DAY)
        assert b"You stay with" in client.post(stay).data
        set_clock(m.desk, NOW + 7 * DAY)
        assert groups(m) == {
            core.BEGIN: 0,
            core.ASK_FOR_CLICK: 0,
            core.AGAIN: 0,
            core.LET_GO: 0,
            core.ANSWERED: 1,
            core.WAIT: 4,
        }
        clean_up.run(m.desk, "ann")
        set_clock(m.desk, NOW + 15 * DAY)
        assert groups(m)[core.AGAIN] == 4
        clean_up.run(m.desk, "ann")
        go(m)
        set_clock(m.desk, NOW + 30 * DAY)
        consent.stop_everything(m.desk, 2, "preference page")
        assert groups(m)[core.LET_GO] == 3 and groups(m)[core.NOT_PERMITTED] == 1
        done = clean_up.run(m.desk, "ann")
        assert done["let go"] == 3 and count(m, 'suppressed for "let go"') == 3
        listed = consent.suppression_list(m.desk, reason="let go")["rows"]
        assert [r["source"] for r in listed] == [
            "clean-up: after 180 days without an answer 2 tries, 14 days apart, then let go after 14 days more"
        ] * 3
        with pytest.raises(Refused, match="new consent"):
            consent.lift(m.desk, listed[0]["subscriber"], "let go", "asked nicely", "ann")
        assert acts.undo(m.desk, done["deed"], "ann") == "3 entries are taken back."
        assert clean_up.see(m.desk, Replays(m.desk))["outcomes"] == {
            "answered": 1,
            "let go": 3,
            "not permitted any more": 1,
        }


def test_by_itself_every_week(folder: Path) -> None:
    with mailing(folder, 6) as m:
        history(folder, m.desk)
        clean_up.agree(m.desk, {**TERMS, "by_itself": True}, "News", "ann")
        assert clean_up.run_by_itself(m.desk) and not clean_up.run_by_itself(m.desk)
        assert len(table.every(m.desk.store.read())) == 5, "two patterns, two campaigns, and the one that was there"
        set_clock(m.desk, NOW + 7 * DAY)
        assert clean_up.run_by_itself(m.desk)
        pattern = table.named(m.desk.store.read(), clean_up.PATTERNS["win_back"])
        assert pattern is not None
        campaigns.write(m.desk, pattern["id"], {"subject": ""})
        set_clock(m.desk, NOW + 15 * DAY)
        with pytest.raises(Refused, match="cannot be mailed yet"):
            clean_up.run(m.desk, "ann")
        assert groups(m)[core.AGAIN] == 5, "nothing was lost"


@pytest.mark.parametrize("wrong", [{"after_days": 20}, {"after_days": 181}, {"tries": 0}, {"wait_days": 1}])
def test_agreements_that_are_none(wrong: dict[str, int]) -> None:
    with pytest.raises(Refused):
        Agreement(**wrong)
    assert all(d in FINE_DAYS for d in range(30, 366, 5))


@given(st.integers(1, 5), st.lists(st.sampled_from(["answer", "books", "leaves", "week"]), max_size=30))
def test_nobody_is_let_go_untried_or_after_an_answer(tries: int, what: list[str]) -> None:
    """Weeks and what people do, in any order."""
    a = Agreement(tries=tries)
    now, last, protected, permitted = 0, -1, False, True
    stay, mails = Stay(0, 1, a.wait_days * DAY), 1
    for w in what:
        if w == "week":
            now += 7 * DAY
            step = next_step(stay, last, protected, permitted, a, now)
            if step == core.AGAIN:
                stay, mails = Stay(0, stay.tries + 1, now + a.wait_days * DAY), mails + 1
            if step == core.LET_GO:
                assert mails == tries and last <= 0 and not protected and permitted
                assert now >= tries * a.wait_days * DAY
            if step in (core.LET_GO, core.ANSWERED, core.NOT_PERMITTED):
                return
        elif w == "answer":
            last = now + 1
        elif w == "books":
            protected = True
        else:
            permitted = False
    assert mails <= tries and np.isfinite(now)
