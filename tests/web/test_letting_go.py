"""Asking for consent again, once; and the clean-up: tried, asked for a click, let go on the record."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from flask.testing import FlaskClient

from openmeadow.core.consent import sunset as core
from openmeadow.core.consent.sunset import Agreement
from openmeadow.core.engagement import replay
from openmeadow.core.engagement.replay import FINE_DAYS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import campaigns, dispatcher, preflight, recipients
from openmeadow.services.subscribers import consent, import_events, import_subscribers, reconsent, sunset, undo
from openmeadow.services.subscribers.engagement_map import Replays
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns as table
from openmeadow.store.subscribers import consent as evidence
from openmeadow.web.app import make_app
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing
from tests.services.test_acts import put

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
        import_subscribers.run(m.workspace.store, put(folder, "more.csv", MORE), NOW, "t")
        log = "at,event,email,message,value\n2025-06-01T10:00:00Z,booked,booked@postern.example,,40\n"
        import_events.run(m.workspace.store, put(folder, "log.csv", log), NOW, "t")
        with make_app(m.workspace).test_client() as client:
            yield m, client


def go(m: Mailing) -> None:
    while dispatcher.send_due(m.workspace, m.tokens):
        pass


def pages(m: Mailing, email: str, at: int = -1) -> list[str]:
    return re.findall(r"http://[^\s/]+(/[kp]/[^\s)]+)", m.world.mailboxes[email][at]["plain"])


def count(m: Mailing, rule: str) -> int:
    return m.workspace.count(rule)[0]


def test_asked_once_and_by_one_click_each(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    found = reconsent.look(m.workspace, ["News", "Family"], True, 365, ["Fair of 2023"])
    assert {g.words: g.count for g in found.groups} == {
        "No consent": 11,
        "Consent older than 365 days": 7,
        "From a doubtful source": 1,
    }
    assert found.people == 11 and found.unrelated == 2 and found.permitted == 8, "who withdrew is not asked"
    for wrong, sentence in (
        (lambda: reconsent.look(m.workspace, [], True, 0, []), "at least one purpose"),
        (lambda: reconsent.look(m.workspace, ["News"], False, 0, []), "Choose who to ask"),
        (lambda: reconsent.ready(m.workspace, ["News"], True, 0, [], "", 3, "ann"), "7 to 365"),
        (
            lambda: reconsent.ready(m.workspace, ["News"], False, 9000, [], "", 0, "ann"),
            "No one matches: every consent is",
        ),
    ):
        with pytest.raises(Refused, match=sentence):
            wrong()
    with pytest.raises(Missing, match="no purpose “Opera”"):
        reconsent.look(m.workspace, ["Opera"], True, 0, [])
    id = reconsent.ready(m.workspace, ["News", "Family"], True, 0, [], "Stood at our table at the fair", 30, "ann")
    row = campaigns.row_of(m.workspace, id)
    assert row.kind == "consent request" and not row.plan.resend
    campaigns.write(m.workspace, id, {"plan": {"resend": True}})
    assert not campaigns.row_of(m.workspace, id).plan.resend, "allowed once, to people with an"
    campaigns.write(m.workspace, id, {"html": row.html.replace("agree_2", "name")})
    stops = [c.finding for c in preflight.checks(m.workspace, campaigns.row_of(m.workspace, id)) if c.level == "blocker"]
    assert stops == ["The consent link for Family is missing: add {{ agree_2 }} as a link."]
    campaigns.write(m.workspace, id, {"html": row.html, "plan": {"batches": 1, "pilot_share": 0.0}})
    assert campaigns.start(m.workspace, id, "ann").people == 10
    go(m)
    yes_news, _, preferences, *_ = pages(m, "none1@postern.example")
    assert b"Yes, subscribe me" in client.get(yes_news).data
    assert count(m, 'consent to "News" by email is given') == 7, "a machine that follows links agrees to nothing"
    set_clock(m.workspace, NOW + 3600)
    for _ in range(2):
        assert b"You will now receive News." in client.post(yes_news).data
    assert client.get(preferences).status_code == 200
    assert len(list(evidence.entries(m.workspace.store.read(), 7))) == 3, "pressed twice, written once"
    name = row.name
    assert count(m, f'in segment "{name}: agreed"') == 1 and count(m, f'in segment "{name}: no reply"') == 9
    client.post("/u/" + m.tokens.make("u", _delivery(m, id, "none2@postern.example")))
    assert count(m, 'consent to "Family" by email is withdrawn') == 1 and count(m, f'in segment "{name}: no reply"') == 8
    assert reconsent.requests(m.workspace)[0].model_dump() | {"id": 0} == {
        "id": 0,
        "name": name,
        "state": "finished",
        "started_at": NOW,
        "asks": ["News", "Family"],
        "mailed": 10,
        "agreed": 1,
        "no_reply": 8,
        "suppress_after_days": 30,
        "suppressed_at": None,
    }
    set_clock(m.workspace, NOW + 2 * DAY)
    again = reconsent.ready(m.workspace, ["News"], True, 0, [], "as before", 0, "ann")
    exclusions = dict(recipients.work_out(m.workspace, campaigns.row_of(m.workspace, again)).exclusions)
    assert exclusions["Already asked for consent"] == -1 and exclusions["May be mailed"] == 0
    with pytest.raises(Refused, match="No recipients: already asked for consent"):
        campaigns.start(m.workspace, again, "ann")
    assert reconsent.suppress_non_responders(m.workspace) == 0
    set_clock(m.workspace, NOW + 31 * DAY)
    assert reconsent.suppress_non_responders(m.workspace) == 8 and reconsent.suppress_non_responders(m.workspace) == 0
    assert count(m, 'suppressed for "inactive"') == 8
    assert client.post("/k/" + m.tokens.make("r", 1, 99)).status_code == 404
    yes_news = pages(m, "old@postern.example")[0]
    assert b"You will now receive" in client.post(yes_news).data
    assert count(m, 'suppressed for "inactive"') == 7, "a new consent of their own brings them back"


def _delivery(m: Mailing, campaign: int, email: str) -> int:
    rows = deliveries_of(m.workspace.store.read(), campaign, "first")
    id = m.workspace.store.read().execute("SELECT id FROM subscribers WHERE email = ?", (email,)).fetchone()["id"]
    return next(int(r.id) for r in rows if r.subscriber == id)


def history(folder: Path, workspace: Workspace) -> None:
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
    import_events.run(workspace.store, put(folder, "history.csv", "\n".join(lines) + "\n"), NOW, "t")


TERMS = Agreement(after_days=180, tries=2, wait_days=14, ask_masked=True, automatic=False)


def groups(m: Mailing) -> dict[str, int]:
    return {g.step: g.count for g in sunset.see(m.workspace, Replays(m.workspace)).groups}


def test_what_it_saves_is_estimated_until_all_is_replayed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in (("CHUNK", 1), ("ONE_IN", 2), ("ENOUGH_RUNS", 2)):
        monkeypatch.setattr(replay, name, value)
    with mailing(folder, 6) as m:
        history(folder, m.workspace)
        replays = Replays(m.workspace)
        first, whole, then = (sunset.see(m.workspace, replays, rough=rough) for rough in (True, False, True))
        assert first.saving_off > 0 and whole.saving_off == then.saving_off == 0
        assert whole.saving == then.saving


def test_tried_asked_and_let_go(folder: Path) -> None:
    with mailing(folder, 6) as m, make_app(m.workspace).test_client() as client:
        history(folder, m.workspace)
        with pytest.raises(Refused, match="Turn on a sunset policy first"):
            sunset.run(m.workspace, "ann")
        with pytest.raises(Refused, match="Choose the purpose"):
            sunset.agree(m.workspace, TERMS, "Opera", "ann")
        seen = sunset.see(m.workspace, Replays(m.workspace))
        assert not seen.active and seen.after_days == 270, "proposed: the window of this list"
        sunset.agree(m.workspace, TERMS, "News", "ann")
        seen = sunset.see(m.workspace, Replays(m.workspace))
        assert seen.active and seen.protected == 1, "whoever books is never let go"
        assert (seen.saving["messages"].beyond, seen.saving["messages"].all) == (6, 48) and seen.saving[
            "engagements"
        ].beyond == 0
        assert groups(m) == {core.BEGIN: 4, core.ASK_FOR_CLICK: 1, core.AGAIN: 0, core.SUPPRESS: 0}
        assert count(m, "suppressed") == 0 and not m.world.mailboxes.get("p0@saltmere.example"), "nothing by itself"
        sunset.run(m.workspace, "ann")
        go(m)
        assert groups(m)[core.WAIT] == 5
        boxes = {e: [x["subject"] for x in m.world.mailboxes[e]] for e in m.world.mailboxes if e.startswith("p")}
        assert boxes["p0@saltmere.example"] == ["Do you still want our emails?"]
        assert boxes["p4@saltmere.example"] == ["Are you still reading?"] and "p5@postern.example" not in boxes
        stay = pages(m, "p0@saltmere.example")[0]
        assert b"Keep me subscribed" in client.get(stay).data
        set_clock(m.workspace, NOW + DAY)
        assert b"You are still subscribed to" in client.post(stay).data
        set_clock(m.workspace, NOW + 7 * DAY)
        assert groups(m) == {
            core.BEGIN: 0,
            core.ASK_FOR_CLICK: 0,
            core.AGAIN: 0,
            core.SUPPRESS: 0,
            core.ENGAGED: 1,
            core.WAIT: 4,
        }
        sunset.run(m.workspace, "ann")
        set_clock(m.workspace, NOW + 15 * DAY)
        assert groups(m)[core.AGAIN] == 4
        sunset.run(m.workspace, "ann")
        go(m)
        set_clock(m.workspace, NOW + 30 * DAY)
        consent.stop_everything(m.workspace, 2, "preference page")
        assert groups(m)[core.SUPPRESS] == 3 and groups(m)[core.NOT_PERMITTED] == 1
        done = sunset.run(m.workspace, "ann")
        assert done["suppress"] == 3 and count(m, 'suppressed for "inactive"') == 3
        listed = consent.suppression_list(m.workspace, reason="inactive").rows
        assert [r.source for r in listed] == [
            "sunset policy: after 180 days without engagement 2 win-back emails, 14 days apart; no engagement within 14 more "
            "days: suppress"
        ] * 3
        with pytest.raises(Refused, match="new opt-in"):
            consent.lift(m.workspace, listed[0].subscriber, "inactive", "asked nicely", "ann")
        assert undo.undo(m.workspace, done["action"], "ann") == "3 entries removed."
        assert sunset.see(m.workspace, Replays(m.workspace)).outcomes == {
            "engaged": 1,
            "suppressed": 3,
            "no longer permitted": 1,
        }


def test_by_itself_every_week(folder: Path) -> None:
    with mailing(folder, 6) as m:
        history(folder, m.workspace)
        sunset.agree(m.workspace, replace(TERMS, automatic=True), "News", "ann")
        assert sunset.run_automatic(m.workspace) and not sunset.run_automatic(m.workspace)
        assert len(table.every(m.workspace.store.read())) == 5, "two patterns, two campaigns, and the one that was there"
        set_clock(m.workspace, NOW + 7 * DAY)
        assert sunset.run_automatic(m.workspace)
        pattern = table.named(m.workspace.store.read(), sunset.PATTERNS["win_back"])
        assert pattern is not None
        campaigns.write(m.workspace, pattern.id, {"subject": ""})
        set_clock(m.workspace, NOW + 15 * DAY)
        with pytest.raises(Refused, match="cannot be mailed yet"):
            sunset.run(m.workspace, "ann")
        assert groups(m)[core.AGAIN] == 5, "nothing was lost"


@pytest.mark.parametrize("wrong", [{"after_days": 20}, {"after_days": 181}, {"tries": 0}, {"wait_days": 1}])
def test_agreements_that_are_none(wrong: dict[str, int]) -> None:
    with pytest.raises(Refused):
        Agreement(**wrong)
    assert all(d in FINE_DAYS for d in range(30, 366, 5))


def test_an_empty_workspace_is_told_what_comes_first(folder: Path) -> None:
    workspace = Workspace(folder)
    with pytest.raises(Refused, match="Add one under Consent first"):
        sunset.see(workspace, Replays(workspace))
    workspace.close()
