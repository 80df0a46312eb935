"""Joining, confirming, preferring and leaving, by the public pages and the mail that leads to them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import why_not
from openmeadow.services.models import FormIn
from openmeadow.services.subscribers import consent, erasure, import_subscribers, signup
from openmeadow.store.subscribers import consent as evidence
from openmeadow.web.app import make_app
from openmeadow.web.public.signup import snippet
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, mailing
from tests.services.test_acts import put

FORM = FormIn(list_name="Harbour list", purposes=[1], intro="Evenings.")


@pytest.fixture
def running(folder: Path) -> Iterator[tuple[Mailing, FlaskClient]]:
    with mailing(folder, 6) as m:
        consent.write_purpose(m.workspace, 1, {"text": "We write about evenings."}, "t")
        signup.write_form(m.workspace, FORM, "t")
        with make_app(m.workspace).test_client() as client:
            yield m, client


def join(client: FlaskClient, email: str = "new@postern.example", ip: str = "198.51.100.9", **more: Any) -> Any:
    data = {"email": email, "name": "Ada", "purpose": "1", "shown": "1:1"} | more
    return client.post("/join/Harbour list", data=data, environ_base={"REMOTE_ADDR": ip})


def button(m: Mailing, email: str) -> str:
    """The path of the confirming page in the latest mail."""
    found = re.search(r"http://\S+?(/k/\S+)", m.world.mailboxes[email][-1]["plain"])
    assert found
    return found.group(1)


def permitted(m: Mailing) -> int:
    return m.workspace.count('permitted for "News"')[0]


def test_from_the_form_to_one_click(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    shown = client.get("/join/harbour list").data.decode()
    assert "We write about evenings." in shown and " checked" not in shown, "no pre-ticked boxes"
    assert b"If it does not arrive within a few minutes" in join(client).data
    assert m.workspace.count('consent to "News" by email is pending')[0] == 1 and permitted(m) == 6
    assert signup.tend(m.workspace) == 1 and signup.tend(m.workspace) == 0
    path = button(m, "new@postern.example")
    for _ in range(3):
        assert b"Confirm subscription" in client.get(path).data
    assert m.workspace.count('in list "Harbour list"')[0] == 0, "a machine that follows links confirms nobody"
    for _ in range(2):
        assert b"You are subscribed to Harbour list" in client.post(path).data
    assert permitted(m) == 7 and m.workspace.count('in list "Harbour list" and source is "Harbour list"')[0] == 1
    told = [(e.state, e.method, e.wording) for e in evidence.entries(m.workspace.store.read(), 7)]
    assert told == [(3, "form", "News, version 1"), (1, "confirmation link", "News, version 1")]
    set_clock(m.workspace, NOW + 30 * DAY)
    assert signup.tend(m.workspace) == 0, "no reminder after the confirmation"
    # preferences: fewer, a pause, all off; again and again does no harm
    page = "/p/" + m.tokens.make("p", 7)
    assert b"new@postern.example" in client.get(page).data
    assert (
        b"Your preferences have been saved."
        in client.post(page, data={"purpose": "1", "at_most": "week", "pause": "30"}).data
    )
    assert evidence.preferences(m.workspace.store.read(), 7) == ("week", NOW + 60 * DAY) and permitted(m) == 6
    assert b"keep the current pause" in client.get(page).data
    client.post(page, data={"purpose": "1", "at_most": "", "pause": "keep"})
    assert evidence.preferences(m.workspace.store.read(), 7) == (None, NOW + 60 * DAY)
    client.post(page, data={"purpose": "1", "pause": "0"})
    assert permitted(m) == 7
    client.post(page, data={"pause": "keep"})
    assert m.workspace.count('consent to "News" by email is withdrawn')[0] == 1
    client.post(page, data={"purpose": "1", "pause": "keep"})
    assert permitted(m) == 7, "as easy to give again as to withdraw"
    for _ in range(2):
        assert b"unsubscribed from everything" in client.post(page, data={"action": "unsubscribe"}).data
    assert permitted(m) == 6 and m.workspace.count("suppressed")[0] == 1
    assert consent.check_evidence(m.workspace).verified


def test_reminders_then_silence_then_lapsed(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    join(client)
    box = m.world.mailboxes
    subjects = []
    for day in range(25):
        set_clock(m.workspace, NOW + day * DAY + 60)
        signup.tend(m.workspace)
        subjects.append(len(box.get("new@postern.example", [])))
    assert [subjects.index(n) for n in (1, 2, 3)] == [0, 2, 6] and subjects[-1] == 3
    assert "our last reminder" in box["new@postern.example"][-1]["plain"]
    assert m.workspace.count('consent to "News" by email is none')[0] == 1
    form = signup.every(m.workspace)[0][0]
    assert (form.joined, form.pending, form.confirmed, form.expired) == (1, 0, 0, 1)
    assert b"You are subscribed to" in client.post(button(m, "new@postern.example")).data, (
        "late, and still their own word"
    )
    assert permitted(m) == 7


def test_what_a_form_refuses(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    for data, words in (
        ({"email": "new@"}, "is not a valid address"),
        ({"purpose": "9"}, "Choose at least one"),
        ({"email": "<b>@x.example"}, "is not a valid address"),
    ):
        answer = join(client, **data)  # type: ignore[arg-type]
        assert answer.status_code == 422 and words in answer.data.decode() and b"<b>@" not in answer.data
        assert 'value="Ada"' in answer.data.decode(), "what was typed is not lost"
    assert b"If it does not arrive within a few minutes" in join(client, website="http://x.example").data
    assert len(m.workspace.view().alive) == 6, "what fills in the hidden field is told the same and kept nowhere"
    assert join(client, email="p1@postern.example").data == join(client, email="other@x.example").data
    assert client.get("/join/Nothing").status_code == 404
    signup.write_form(m.workspace, FORM.model_copy(update={"is_open": False}), "t")
    assert client.get("/join/Harbour list").status_code == 404
    for values, words in (
        ({"purposes": []}, "at least one purpose"),
        ({"reminders": [6, 2]}, "in ascending order"),
        ({"purposes": [9]}, "does not exist any more"),
    ):
        with pytest.raises(Refused, match=words):
            signup.write_form(m.workspace, FORM.model_copy(update=values), "t")
    page = snippet("https://mail.kestrelquay.example", signup.FormPage(1, "A b", "", True, True, [], ""))
    assert 'action="https://mail.kestrelquay.example/join/A%20b"' in page


def test_a_burst_is_slowed_and_shown(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    answers = [join(client, f"bot{i}@x.example", f"203.0.113.{i}").status_code for i in range(11)]
    assert answers[:8] == [200] * 8 and set(answers[8:]) == {422}
    assert join(client, "calm@x.example", "198.51.100.77").status_code == 200, "others are not slowed"
    (burst,) = signup.every(m.workspace)[1]
    assert (burst.network, burst.n) == ("203.0.113.0/24", 8)
    assert signup.network_of("2001:db8::1") == "2001:db8::/56" and signup.network_of("nonsense") == ""


def test_without_a_second_step_and_for_who_comes_back(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    signup.write_form(m.workspace, FORM.model_copy(update={"confirm": False}), "t")
    assert b"You are subscribed." in join(client).data and permitted(m) == 7
    erasure.erase(m.workspace, 7, "t")
    assert b"You are subscribed." in join(client).data
    assert permitted(m) == 7 and len(m.workspace.view().alive) == 8, "erased people may come back by themselves"
    consent.stop_everything(m.workspace, 1, "preference page")
    set_clock(m.workspace, NOW + 60)
    join(client, "p0@saltmere.example")
    assert permitted(m) == 6, "anybody could have typed the address: single opt-in it lifts nothing"


def test_a_stranger_changes_nothing_about_who_is_here(running: tuple[Mailing, FlaskClient]) -> None:
    """Somebody types another's address: the name stays, a no stays a no, and a yes stays a yes."""
    m, client = running
    consent.by_hand(m.workspace, 1, 1, "withdrawn", "wrote to us", "t")
    set_clock(m.workspace, NOW + 60)
    for email in ("p0@saltmere.example", "p1@postern.example"):
        join(client, email, name="Somebody Else")
    names = [r["name"] for r in m.workspace.store.read().execute("SELECT name FROM subscribers WHERE id < 3 ORDER BY id")]
    assert names == ["P0 Quill", "P1 Quill"] and permitted(m) == 5
    set_clock(m.workspace, NOW + 22 * DAY)
    signup.tend(m.workspace)
    assert m.workspace.count('consent to "News" by email is withdrawn')[0] == 1, "lapsed, and still withdrawn"
    assert m.workspace.count('consent to "News" by email is given')[0] == 5
    assert consent.check_evidence(m.workspace).verified


def test_a_new_address_is_confirmed_where_it_is(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    page = "/p/" + m.tokens.make("p", 1)
    said = client.post(page, data={"purpose": "1", "new_email": "elsewhere@postern.example"}).data
    assert b"If elsewhere@postern.example can receive our emails" in said
    signup.tend(m.workspace)
    path = button(m, "elsewhere@postern.example")
    assert b"Confirm your new address" in client.get(path).data and m.workspace.view().alive.all()
    for _ in range(2):
        assert b"We will email you at elsewhere@postern.example" in client.post(path).data
    rows = m.workspace.store.read().execute("SELECT email FROM subscribers WHERE id = 1").fetchone()
    assert rows["email"] == "elsewhere@postern.example"
    signup.tend(m.workspace)
    assert "was changed" in m.world.mailboxes["p0@saltmere.example"][-1]["subject"], "the old address is told"
    client.post(page, data={"purpose": "1", "new_email": "p1@postern.example"})
    signup.tend(m.workspace)
    taken = client.post(button(m, "p1@postern.example"))
    assert b"already" in taken.data
    assert client.get("/p/tampered").status_code == 404 and client.get("/p/" + m.tokens.make("u", 1)).status_code == 404


def test_why_not(running: tuple[Mailing, FlaskClient]) -> None:
    m, _ = running
    assert why_not.why_not(m.workspace, "p1@postern.example", m.campaign).model_dump() == {
        "subscriber": 2,
        "permitted": True,
        "reasons": [],
        "deliveries": [],
    }
    consent.stop_everything(m.workspace, 2, "preference page")
    told = why_not.why_not(m.workspace, "P1@postern.example", m.campaign)
    assert told.reasons == ["not in any selected segment", "suppressed", "consent withdrawn"]


def test_who_was_let_go_comes_back_by_the_form(running: tuple[Mailing, FlaskClient]) -> None:
    """And who complained, once they have confirmed that it is them: the mail with the button is all that they get."""
    m, client = running
    old = "email\np0@saltmere.example\nleft@postern.example\n"
    for text, reason in ((old, "inactive"), ("email\np1@postern.example\n", "complaint")):
        file = put(m.workspace.folder, "old.csv", text)
        import_subscribers.run(m.workspace.store, file, NOW, "t", source="the list of before", suppressed=reason)
    listed = consent.suppression_list(m.workspace).rows
    assert {(r.reason, r.source) for r in listed} == {
        ("inactive", "the list of before"),
        ("complaint", "the list of before"),
    }
    assert permitted(m) == 4
    for email in ("p0@saltmere.example", "left@postern.example", "p1@postern.example"):
        join(client, email)
    signup.tend(m.workspace)
    assert permitted(m) == 4
    for email in ("p0@saltmere.example", "left@postern.example"):
        client.post(button(m, email))
    assert permitted(m) == 6 and m.workspace.count("suppressed")[0] == 1
    set_clock(m.workspace, NOW + 7 * DAY)
    signup.tend(m.workspace)
    assert len(m.world.mailboxes["p1@postern.example"]) == 1, "no reminder to who complained"
    client.post(button(m, "p1@postern.example"))
    assert permitted(m) == 7 and m.workspace.count("suppressed")[0] == 0


def test_a_burst_of_one_pattern_from_many_networks(running: tuple[Mailing, FlaskClient]) -> None:
    m, client = running
    answers = [join(client, f"ann{i}@postern.example", f"198.51.{i}.9") for i in range(10)]
    assert [a.status_code for a in answers] == [200] * 8 + [422] * 2 and b"like this one" in answers[-1].data
    assert join(client, "bea@postern.example", "203.0.113.9").status_code == 200
    (burst,) = signup.every(m.workspace)[1]
    assert (burst.network, burst.n) == ("addresses like ann…@postern.example", 8)
