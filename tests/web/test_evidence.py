"""Evidence that would stand up: what was shown is what is recorded, what was written stays written, what is erased is gone."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.consent.evidence import text_hash
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import (
    address_change,
    consent,
    erasure,
    export,
    import_events,
    import_subscribers,
    reconsent,
    signup,
)
from openmeadow.services.subscribers.selection import Choice
from openmeadow.store import settings
from openmeadow.store.subscribers import consent as table
from openmeadow.web.app import make_app
from openmeadow.web.public.signup import snippet
from tests.conftest import NOW
from tests.services.mailing import Mailing
from tests.services.test_acts import put
from tests.web.conftest import Caller
from tests.web.test_api import PASSWORD
from tests.web.test_joining import button, join, permitted
from tests.web.test_joining import running as running  # noqa: PLC0414

FIRST, SECOND = "We write about evenings.", "We write about evenings, and about our sponsors."


def entries_of(m: Mailing, email: str) -> list[dict[str, str]]:
    out = m.workspace.folder / "evidence.csv"
    consent.export(m.workspace, out, None, "t")
    return [r for r in csv.DictReader(io.StringIO(out.read_text())) if r["email"] == email]


def test_the_wording_that_was_shown_is_the_one_on_record(running: tuple[Mailing, Any]) -> None:
    """The text changes between the form and its button; and code that stands on somebody's own page sends its version."""
    m, client = running
    page = client.get("/join/Harbour list").data.decode()
    shown = re.search(r'name="shown" value="([^"]+)"', page)
    assert shown
    embedded = snippet("http://x", signup.form(m.workspace, "Harbour list"))
    join(client, "ada@postern.example", shown=shown.group(1))
    consent.write_purpose(m.workspace, 1, {"text": SECOND}, "t")
    signup.tend(m.workspace)
    path = button(m, "ada@postern.example")
    assert FIRST in client.get(path).data.decode(), "the page says what is confirmed"
    client.post(path)
    old = re.search(r'name="shown" value="([^"]+)"', embedded)
    assert old and "left:-9999px" in embedded, "the trap is hidden on any page"
    join(client, "bea@postern.example", "203.0.113.9", shown=old.group(1))
    join(client, "cy@postern.example", "192.0.2.9", shown="1:999")
    signup.tend(m.workspace)
    for email in ("bea@postern.example", "cy@postern.example"):
        client.post(button(m, email))
    for email, text in (("ada@postern.example", FIRST), ("bea@postern.example", FIRST), ("cy@postern.example", "")):
        kept = entries_of(m, email)[-1]
        assert (kept["state"], kept["method"], kept["wording_text"]) == ("given", "confirmation link", text)
        assert kept["wording_sha256"] == (text_hash(text) if text else "")
        assert kept["page"].endswith("/join/Harbour%20list") and kept["form"] == "1"
    versions = consent.wordings(m.workspace, 1)
    assert [(w.version, w.text, w.people) for w in versions] == [(2, SECOND, 0), (1, FIRST, 2)]


def test_a_wording_cannot_be_changed_behind_the_chain(running: tuple[Mailing, Any]) -> None:
    m, client = running
    join(client, "ada@postern.example", shown="1:1")
    signup.tend(m.workspace)
    client.post(button(m, "ada@postern.example"))
    consent.write_purpose(m.workspace, 1, {"name": "Harbour news"}, "t")
    consent.write_purpose(m.workspace, 1, {"text": "Daily offers, also from our partners."}, "t")
    assert consent.check_evidence(m.workspace).verified
    with m.workspace.store.atomic() as db:
        assert table.wordings(db, 1)[-1].text == FIRST
        db.execute("UPDATE wordings SET text = 'Daily offers.' WHERE id = 1")
    found = consent.check_evidence(m.workspace)
    assert not found.verified and "was changed after people had agreed" in found.what
    with m.workspace.store.atomic() as db:
        db.execute("UPDATE wordings SET text = ? WHERE id = 1", (FIRST,))
        db.execute("UPDATE consent_entries SET page = 'https://elsewhere.example' WHERE page IS NOT NULL")
    assert not consent.check_evidence(m.workspace).verified


def test_a_renamed_purpose_is_the_same_purpose_everywhere(running: tuple[Mailing, Any]) -> None:
    m, _ = running
    rule = (
        'permitted for "News" and (consent to "News" by email is given or consent to "News" given more than 3 days ago)'
    )
    segments.save(m.workspace, "Ours", rule, "t")
    part = """<p>{% if matches('permitted for "News"') %}Yes{% endif %}</p>"""
    campaigns.write(m.workspace, m.campaign, {"html": part, "plain": part})
    consent.write_purpose(m.workspace, 1, {"name": 'Harbour "news"'}, "t")
    assert m.workspace.count('in segment "Ours"')[0] == 6
    row = campaigns.row_of(m.workspace, m.campaign)
    assert row.html == row.plain == part.replace("News", 'Harbour ""news""')
    assert "Harbour" in segments.every(m.workspace)[0].rule and segments.every(m.workspace)[0].problem == ""


def test_nothing_of_an_erased_person_is_left(running: tuple[Mailing, Any]) -> None:
    """Not in exports, refused rows, files aside, raw mail, snapshots, the log or freed pages; and an address they had
    before does not bring them back."""
    m, client = running
    folder, old, email, name = (
        m.workspace.folder,
        "ada.quillfeather@postern.example",
        "ada.now@postern.example",
        "Quillfeather",
    )
    file = put(folder, "more.csv", f"email,name\n{old},Ada {name}\nother@postern.example,Other\n")
    import_subscribers.run(m.workspace.store, file, NOW, "t", consent={"News": "given"}, source="desk")
    file.unlink()
    id = m.workspace.store.read().execute("SELECT id FROM subscribers WHERE email = ?", (old,)).fetchone()["id"]
    address_change.ask_new_address(m.workspace, id, email)
    signup.tend(m.workspace)
    client.post(button(m, email))
    signup.tend(m.workspace)
    segment = segments.save(m.workspace, "All", "joined more than 0 days ago or joined less than 9 days ago", "t")
    segments.take_snapshot(m.workspace, segment.id, "t")
    (folder / "exports").mkdir(exist_ok=True)
    export.write(m.workspace, Choice(), ("email", "name"), folder / "exports" / "1.csv")
    consent.export(m.workspace, folder / "exports" / "evidence-1.csv", None, "t")
    log = put(folder, "log.csv", f"at,event,email,message\n2026-03-01,sent,{old},News\n2026-03-01,sent,who@x.example,N\n")
    import_events.run(m.workspace.store, log, NOW, "t")
    log.unlink()
    campaigns.test_message(m.workspace, m.campaign, "p1@postern.example", "t", subscriber=id)
    assert (folder / "exports" / "1.csv").read_text().count(email) == 1
    erasure.erase(m.workspace, id, "t")
    for path in [p for p in folder.rglob("*") if p.is_file()]:
        data = path.read_bytes()
        for written in (old, email, name):
            assert written.encode() not in data, (path.name, written)
    assert "p1@postern.example" in (folder / "exports" / "1.csv").read_text(), "the others stay"
    back = put(folder, "back.csv", f"email\n{old}\n{email}\n")
    report = import_subscribers.run(m.workspace.store, back, NOW, "t")
    assert report.taken == 0 and report.refused_count == 2 and consent.check_evidence(m.workspace).verified
    assert m.workspace.store.read().execute("SELECT count(*) FROM events_aside").fetchone()[0] == 1


@pytest.mark.parametrize(
    ("text", "left"),
    [
        ("email,name\na@x.example,A\nb@x.example,B\n", "email,name\nb@x.example,B\n"),
        ('email,name\n"A@X.example","two\nlines"\nb@x.example,"B\nb"\n', 'email,name\nb@x.example,"B\nb"\n'),
        ('{"email":"a@x.example"}\n{"email":"b@x.example"}\n', '{"email":"b@x.example"}\n'),
        ("email\nb@x.example\n", "email\nb@x.example\n"),
        (
            "email\nba@x.example\na@x.example.test\n+a@x.example\n",
            "email\nba@x.example\na@x.example.test\n+a@x.example\n",
        ),
        ("a@x.example\nA@X.EXAMPLE.\n<a@x.example>\nz\n", "z\n"),
    ],
)
def test_rows_are_taken_out_whole(tmp_path: Path, text: str, left: str) -> None:
    path = tmp_path / ("x.ndjson" if text.startswith("{") else "x.csv")
    path.write_text(text)
    assert erasure.take_out(path, {"a@x.example"}) is (text != left) and path.read_text() == left


def test_what_is_given_to_who_asks(running: tuple[Mailing, Any]) -> None:
    """JSON with times as RFC 3339, and a page that can be read."""
    m, client = running
    accounts.add(m.workspace, "analyst", "analyst", PASSWORD)
    call = Caller(client, "analyst")
    found = json.loads(json.dumps(call("GET", "/subscribers/1/everything.json")))
    assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(Z|\+00:00)", found["joined_at"])
    assert not re.search(r'"\w*at": \d{9,}', json.dumps(found)), "no moment is a bare number"
    with m.workspace.store.atomic() as db:
        db.execute("UPDATE subscribers SET name = '<script>alert(1)</script>' WHERE id = 1")
    page = call("GET", "/subscribers/1/everything.html").decode()
    assert "Your consents and withdrawals" in page and found["email"] in page and "<script>" not in page


def test_a_service_reaches_only_whom_it_serves(running: tuple[Mailing, Any]) -> None:
    """Strangers who signed up, robots and bare imports have no contract; who booked, or whose file says so, has."""
    m, client = running
    tickets = consent.write_purpose(
        m.workspace, None, {"name": "Tickets", "transactional": True, "basis": "contract"}, "t"
    )
    file = put(
        m.workspace.folder, "t.csv", "email,consent:Tickets\nholder@postern.example,given\nbare@postern.example,\n"
    )
    import_subscribers.run(m.workspace.store, file, NOW, "t", source="box office")
    log = put(m.workspace.folder, "b.csv", "at,event,email,message,value\n2026-03-01,booked,p1@postern.example,,40\n")
    import_events.run(m.workspace.store, log, NOW, "t")
    join(client, "robot@postern.example")
    view = m.workspace.view()
    mask = view.facts.permitted("Tickets")  # type: ignore[attr-defined]
    rows = m.workspace.store.read().execute("SELECT id, email FROM subscribers").fetchall()
    emails = {r["id"]: r["email"] for r in rows}
    reached = {emails[i] for i in view.columns.people.id[mask].tolist()}
    assert reached == {"holder@postern.example", "p1@postern.example"} and tickets
    assert permitted(m) == 6


def test_a_consent_request_says_what_it_does() -> None:
    assert "If you do nothing, we will stop" in reconsent.silence(30)
    assert "nothing changes" in reconsent.silence(0) and "silent" not in reconsent.silence(0)


def test_strangers_are_limited_and_told_nothing(running: tuple[Mailing, Any]) -> None:
    m, client = running
    page = "/p/" + m.tokens.make("p", 1)

    def wish(email: str) -> tuple[int, str]:
        answer = client.post(page, data={"purpose": "1", "new_email": email})
        return answer.status_code, answer.data.decode()

    known, stranger = wish("p1@postern.example"), wish("stranger@postern.example")
    assert known[0] == stranger[0] == 200
    assert known[1].replace("p1@", "stranger@") == stranger[1], "who is here and who is not get the same answer"
    assert wish("three@postern.example")[0] == 200 and wish("four@postern.example")[0] == 422
    before = len(m.world.mailboxes.get("stranger@postern.example", []))
    signup.tend(m.workspace)
    signup.tend(m.workspace)
    assert len(m.world.mailboxes["stranger@postern.example"]) == before + 1
    for other in (2, 3, 4):
        client.post("/p/" + m.tokens.make("p", other), data={"purpose": "1", "new_email": "stranger@postern.example"})
    signup.tend(m.workspace)
    assert len(m.world.mailboxes["stranger@postern.example"]) <= before + 2, "one mailbox is asked twice a day"
    plus = [join(client, f"eve+{i}@postern.example", f"198.51.{i}.7").status_code for i in range(6)]
    assert plus == [200] * 3 + [422] * 3, "one mailbox by many spellings, from many networks"
    for path in (page, "/join/Harbour list"):
        odd = {"purpose": ["²", "9" * 30], "pause": "²", "email": "a@b.example"}
        assert client.post(path, data=odd).status_code in (200, 422)


def test_made_up_sign_ups_get_no_reminder(running: tuple[Mailing, Any]) -> None:
    m, client = running
    for i in range(6):
        join(client, f"x{i}q@postern.example", "203.0.113.20")
    join(client, "real@postern.example")
    for day in range(8):
        (m.workspace.folder / "clock").write_text(str(NOW + day * 86_400))
        signup.tend(m.workspace)
    asked = {i: len(m.world.mailboxes.get(f"x{i}q@postern.example", [])) for i in range(6)}
    assert set(asked.values()) == {1} and len(m.world.mailboxes["real@postern.example"]) == 3


def test_test_messages_are_few_and_spare_who_complained(running: tuple[Mailing, Any]) -> None:
    m, _ = running
    for _ in range(campaigns.TESTS_TO_ONE):
        campaigns.test_message(m.workspace, m.campaign, "stranger@postern.example", "writer")
    with pytest.raises(campaigns.Refused, match="within the hour"):
        campaigns.test_message(m.workspace, m.campaign, "Stranger@postern.example", "writer")
    file = put(m.workspace.folder, "c.csv", "email\np1@postern.example\n")
    import_subscribers.run(m.workspace.store, file, NOW, "t", source="x", suppressed="complaint")
    with pytest.raises(campaigns.Refused, match="is suppressed"):
        campaigns.test_message(m.workspace, m.campaign, "p1@postern.example", "writer")
    assert settings.last_activity(m.workspace.store.read()) > 0 and make_app(m.workspace)
