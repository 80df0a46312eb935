"""Pre-send checks: what is found, what may be overruled, whom a campaign takes in and who falls out."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from openmeadow import demo
from openmeadow.core.addresses.aliases import alias_rules, mailbox
from openmeadow.core.errors import MeadowError
from openmeadow.desk import campaigns, checking, recipients
from openmeadow.desk.audience import thorough
from openmeadow.store import campaigns as table
from openmeadow.store import subscribers, workspace
from openmeadow.store.subscribers import facts_changed
from tests.conftest import NOW
from tests.desk.mailing import Mailing, mailing, ready_campaign

SITE = "https://www.kestrelquay.example"


def found(m: Mailing, **values: Any) -> list[tuple[str, str, str]]:
    campaigns.write(m.desk, m.campaign, values)
    return [(c["level"], c["check"], c["finding"]) for c in thorough(m.desk, campaigns.row_of(m.desk, m.campaign))]


def html(body: str) -> str:
    words = "Two evenings by the harbour, with the whole orchestra and a new hall, and a long text beside it. " * 4
    return f"<html><body><p>{words}</p>{body}</body></html>"


@pytest.mark.parametrize(
    ("values", "level", "check", "words"),
    [
        ({"subject": ""}, "stop", "Subject", "Write a subject"),
        ({"html": "", "plain": ""}, "stop", "Message", "Write the message"),
        ({"html": html("{{ nonsense }}")}, "stop", "Personal fields", "Nobody has a field “nonsense”"),
        ({"html": html("Dear {{ town }}")}, "stop", "Personal fields", "Nobody has a field “town”"),
        ({"html": html("{% if %}")}, "stop", "Personal fields", "cannot be read"),
        ({"html": html(f'<a href="{SITE}/spring">kestrelquay.test</a>')}, "stop", "Links", "readers are warned"),
        ({"html": html('<a href="http://192.0.2.1/x">Here</a>')}, "stop", "Links", "bare address"),
        ({"html": html('<img src="a.png">')}, "mend", "Pictures", "no alternative text"),
        ({"segments_in": []}, "stop", "Recipients", "Nobody is chosen"),
        ({"record_opens": 0}, "stop", "Resend", "Opens are not recorded"),
        ({"record_opens": 0, "plan": {"resend": False}}, "note", "Recording", "only clicks"),
        ({"record_clicks": 0}, "note", "Recording", "Clicks are not recorded"),
        ({"html": "", "plain": "Two evenings"}, "note", "Message", "plain text only"),
        ({"subject": "RE: your seats"}, "mend", "Subject", "begins like an answer"),
        ({"html": html("{{ first_name }}")}, "mend", "Personal fields", "1 of 12 have no first_name"),
    ],
)
def test_what_is_found(folder: Path, values: dict[str, Any], level: str, check: str, words: str) -> None:
    with mailing(folder, 12, name=np.array(["", *[f"P{i} Quill" for i in range(1, 12)]])) as m:
        assert not [f for f in found(m) if f[0] == "stop"], "it can start as it is"
        assert [f for f in found(m, **values) if f[:2] == (level, check) and words in f[2]], found(m)


def test_links_are_asked_and_a_stop_is_overruled(folder: Path) -> None:
    with mailing(folder, 12) as m:
        with m.desk.store.atomic() as db:
            workspace.set_setting(db, "web_gateway", m.control)
        page = html(f'<a href="{SITE}/spring">Spring</a> <a href="{SITE}/sprong">Also</a>')
        assert ("note", "Links", "2 of 2 have not been asked today whether they answer.") in found(m, html=page)
        row = campaigns.row_of(m.desk, m.campaign)
        assert checking.ask_links(m.desk, row) == 1
        gone = ("stop", "Links", f"{SITE}/sprong: answers 404.")
        assert gone in found(m)
        with pytest.raises(MeadowError, match="answers 404"):
            campaigns.start(m.desk, m.campaign, "ann")
        with pytest.raises(MeadowError, match="not found any more"):
            checking.overrule(m.desk, row, "Links", "something else", "because", "ann")
        campaigns.write(m.desk, m.campaign, {"subject": ""})
        with pytest.raises(MeadowError, match="cannot be overruled"):
            checking.overrule(
                m.desk, campaigns.row_of(m.desk, m.campaign), "Subject", "Write a subject.", "no need", "ann"
            )
        campaigns.write(m.desk, m.campaign, {"subject": "Spring"})
        checking.overrule(m.desk, row, "Links", gone[2], "The page opens on Monday", "ann")
        told = next(c for c in thorough(m.desk, campaigns.row_of(m.desk, m.campaign)) if c["finding"] == gone[2])
        assert told["overruled"] == "ann: The page opens on Monday"
        assert campaigns.start(m.desk, m.campaign, "ann")["people"] == 12


def test_everybody_once_and_why_not_the_others(folder: Path) -> None:
    emails = [f"p{i}@saltmere.example" for i in range(8)]
    emails += [
        "ann.lee@lanternmail.example",
        "annlee+hall@lanternmail.example",
        "a.b@postern.example",
        "ab@postern.example",
    ]
    with mailing(folder, 12, email=np.array(emails)) as m:
        with m.desk.store.atomic() as db:
            workspace.set_setting(db, "alias_rules", demo.ALIAS_RULES)
            db.execute("INSERT INTO sequences (id, name) VALUES (1, 'Welcome')")
            db.execute("INSERT INTO sequence_stays (sequence, subscriber, entered_at) VALUES (1, 1, ?)", (NOW - 5,))
            facts_changed(db)
        row = campaigns.row_of(m.desk, m.campaign)
        r = recipients.work_out(m.desk, row)
        assert r.sieve == [
            ("Chosen", 12),
            ("Inside a sequence that keeps campaigns away", -1),
            ("The same mailbox as another address", -1),
            ("Permitted", 10),
        ], "dots count at Postern and not at Lanternmail"
        campaigns.write(m.desk, m.campaign, {"with_sequences": True, "segments_in": [], "lists_in": ["Foyer"]})
        campaigns.choose(m.desk, m.campaign, "P2@saltmere.example", "out")
        r = recipients.work_out(m.desk, campaigns.row_of(m.desk, m.campaign))
        assert (len(r.index), int(r.fallen["Left out"].sum())) == (10, 1)
        campaigns.write(m.desk, m.campaign, {"lists_in": [], "lists_out": ["Foyer"]})
        campaigns.choose(m.desk, m.campaign, "p3@saltmere.example", "in")
        assert not len(recipients.work_out(m.desk, campaigns.row_of(m.desk, m.campaign)).index)
        with pytest.raises(MeadowError, match="Nobody here has the address"):
            campaigns.choose(m.desk, m.campaign, "stranger@saltmere.example", "in")


@pytest.mark.parametrize(
    ("address", "expected"),
    [
        ("ann.lee+hall@lanternmail.example", "annlee@lanternmail.example"),
        ("ann.lee+hall@postern.example", "ann.lee@postern.example"),
        ("+hall@postern.example", "+hall@postern.example"),
        ("ann.lee+hall@saltmere.example", "ann.lee+hall@saltmere.example"),
        ('"a+b"@postern.example', '"a+b"@postern.example'),
    ],
)
def test_one_mailbox(address: str, expected: str) -> None:
    assert mailbox(address, alias_rules(demo.ALIAS_RULES)) == expected


def test_of_the_whole_list(folder: Path) -> None:
    with mailing(folder, 40) as m:
        words = {(c["check"], c["mend"]) for c in thorough(m.desk, campaigns.row_of(m.desk, m.campaign))}
        assert ("Addresses", "addresses") in words
        other = ready_campaign(m.desk, "Late hours")
        campaigns.write(m.desk, other, {"plan": {"lead_share": 0.0, "batches": 1}})
        campaigns.start(m.desk, other, "ann")
        said = found(m)
        assert any("40 of these people get “Late hours” on the same day" in f[2] for f in said)
        with m.desk.store.atomic() as db:
            db.execute("UPDATE address_verdicts SET verdict = 2")
            db.executemany(
                "INSERT INTO address_verdicts (subscriber, verdict, reasons, at) VALUES (?, 2, '[]', ?)",
                [(i, NOW) for i in range(1, 4)],
            )
            subscribers.people_changed(db)
        assert any(f[:2] == ("mend", "Addresses") and f[2].startswith("3 of 40") for f in found(m))
        assert table.waiting_plans(m.desk.store.read())[0]["name"] == "Late hours"
