"""Pre-send checks: what is found, what may be overridden, whom a campaign takes in and who falls out."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from openmeadow.core.addresses.aliases import alias_rules, mailbox
from openmeadow.core.errors import MeadowError
from openmeadow.demo import build
from openmeadow.services.campaigns import campaigns, preflight, preflight_recipients, recipients
from openmeadow.services.campaigns.preflight_recipients import thorough
from openmeadow.services.subscribers import import_events
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as table
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.subscribers import facts_changed
from tests.conftest import NOW
from tests.services.mailing import Mailing, mailing, ready_campaign

SITE = "https://www.kestrelquay.example"


def found(m: Mailing, **values: Any) -> list[tuple[str, str, str]]:
    campaigns.write(m.workspace, m.campaign, values)
    return [(c.level, c.check, c.finding) for c in thorough(m.workspace, campaigns.row_of(m.workspace, m.campaign))]


def html(body: str) -> str:
    words = "Two evenings by the harbour, with the whole orchestra and a new hall, and a long text beside it. " * 4
    return f"<html><body><p>{words}</p>{body}</body></html>"


@pytest.mark.parametrize(
    ("values", "level", "check", "words"),
    [
        ({"subject": ""}, "blocker", "Subject", "Write a subject"),
        ({"html": "", "plain": ""}, "blocker", "Message", "Write the message"),
        ({"html": html("{{ nonsense }}")}, "blocker", "Merge fields", "There is no field “nonsense”"),
        ({"html": html("Dear {{ town }}")}, "blocker", "Merge fields", "There is no field “town”"),
        ({"html": html("{% if %}")}, "blocker", "Merge fields", "cannot be read"),
        ({"html": html(f'<a href="{SITE}/spring">kestrelquay.test</a>')}, "blocker", "Links", "mail clients warn"),
        ({"html": html('<a href="http://192.0.2.1/x">Here</a>')}, "blocker", "Links", "an IP address"),
        ({"html": html('<img src="a.png">')}, "warning", "Images", "no alt text"),
        ({"segments_in": []}, "blocker", "Recipients", "No recipients selected"),
        ({"track_opens": 0}, "blocker", "Resend", "Open tracking is off"),
        ({"track_opens": 0, "plan": {"resend": False}}, "note", "Tracking", "only clicks"),
        ({"track_clicks": 0}, "note", "Tracking", "Click tracking is off"),
        ({"html": "", "plain": "Two evenings"}, "note", "Message", "opens cannot be tracked"),
        ({"html": "", "plain": "Two evenings"}, "blocker", "Resend", "Opens of plain text cannot be tracked"),
        ({"html": "", "plain": f"Come: {SITE}/a and {SITE}/b."}, "note", "Links", "2 of 2 links have not been checked"),
        ({"subject": "RE: your seats"}, "warning", "Subject", "starts like a reply"),
        ({"html": html("{{ first_name }}")}, "warning", "Merge fields", "1 of 12 have no first_name"),
    ],
)
def test_what_is_found(folder: Path, values: dict[str, Any], level: str, check: str, words: str) -> None:
    with mailing(folder, 12, name=np.array(["", *[f"P{i} Quill" for i in range(1, 12)]])) as m:
        assert not [f for f in found(m) if f[0] == "blocker"], "it can start as it is"
        assert [f for f in found(m, **values) if f[:2] == (level, check) and words in f[2]], found(m)


def test_links_are_asked_and_a_stop_is_overruled(folder: Path) -> None:
    with mailing(folder, 12) as m:
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "web_gateway", m.control)
        page = html(f'<a href="{SITE}/spring">Spring</a> <a href="{SITE}/sprong">Also</a>')
        assert ("note", "Links", "2 of 2 links have not been checked today.") in found(m, html=page)
        row = campaigns.row_of(m.workspace, m.campaign)
        assert preflight.ask_links(m.workspace, row) == 1
        gone = ("blocker", "Links", f"{SITE}/sprong: returns status 404.")
        assert gone in found(m)
        with pytest.raises(MeadowError, match="returns status 404"):
            campaigns.start(m.workspace, m.campaign, "ann")
        with pytest.raises(MeadowError, match="This finding no longer exists"):
            preflight_recipients.override(m.workspace, row, "Links", "something else", "because", "ann")
        campaigns.write(m.workspace, m.campaign, {"subject": ""})
        with pytest.raises(MeadowError, match="cannot be overridden"):
            preflight_recipients.override(
                m.workspace, campaigns.row_of(m.workspace, m.campaign), "Subject", "Write a subject.", "no need", "ann"
            )
        campaigns.write(m.workspace, m.campaign, {"subject": "Spring"})
        preflight_recipients.override(m.workspace, row, "Links", gone[2], "The page opens on Monday", "ann")
        told = next(c for c in thorough(m.workspace, campaigns.row_of(m.workspace, m.campaign)) if c.finding == gone[2])
        assert told.overridden == "ann: The page opens on Monday"
        assert campaigns.start(m.workspace, m.campaign, "ann").people == 12


def test_everybody_once_and_why_not_the_others(folder: Path) -> None:
    emails = [f"p{i}@saltmere.example" for i in range(8)]
    emails += [
        "ann.lee@lanternmail.example",
        "annlee+hall@lanternmail.example",
        "a.b@postern.example",
        "ab@postern.example",
    ]
    with mailing(folder, 12, email=np.array(emails)) as m:
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "alias_rules", build.ALIAS_RULES)
            db.execute("INSERT INTO sequences (id, name) VALUES (1, 'Welcome')")
            db.execute("INSERT INTO enrolments (sequence, subscriber, entered_at) VALUES (1, 1, ?)", (NOW - 5,))
            facts_changed(db)
        row = campaigns.row_of(m.workspace, m.campaign)
        r = recipients.work_out(m.workspace, row)
        assert r.exclusions == [
            ("Selected", 12),
            ("Active in a sequence", -1),
            ("Duplicate mailbox", -1),
            ("May be mailed", 10),
        ], "dots count at Postern and not at Lanternmail"
        campaigns.write(m.workspace, m.campaign, {"with_sequences": True, "segments_in": [], "lists_in": ["Foyer"]})
        campaigns.choose(m.workspace, m.campaign, "P2@saltmere.example", "out")
        r = recipients.work_out(m.workspace, campaigns.row_of(m.workspace, m.campaign))
        assert (len(r.index), int(r.excluded["Excluded"].sum())) == (10, 1)
        campaigns.write(m.workspace, m.campaign, {"lists_in": [], "lists_out": ["Foyer"]})
        campaigns.choose(m.workspace, m.campaign, "p3@saltmere.example", "in")
        assert not len(recipients.work_out(m.workspace, campaigns.row_of(m.workspace, m.campaign)).index)
        with pytest.raises(MeadowError, match="There is no subscriber with the address"):
            campaigns.choose(m.workspace, m.campaign, "stranger@saltmere.example", "in")


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
    assert mailbox(address, alias_rules(build.ALIAS_RULES)) == expected


def test_of_the_whole_list(folder: Path) -> None:
    with mailing(folder, 40) as m:
        words = {(c.check, c.fix) for c in thorough(m.workspace, campaigns.row_of(m.workspace, m.campaign))}
        assert ("Addresses", "addresses") in words
        other = ready_campaign(m.workspace, "Late hours")
        campaigns.write(m.workspace, other, {"plan": {"pilot_share": 0.0, "batches": 1}})
        campaigns.start(m.workspace, other, "ann")
        said = found(m)
        assert any("40 of these recipients get “Late hours” on the same day" in f[2] for f in said)
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE address_verdicts SET verdict = 2")
            db.executemany(
                "INSERT INTO address_verdicts (subscriber, verdict, reasons, at) VALUES (?, 2, '[]', ?)",
                [(i, NOW) for i in range(1, 4)],
            )
            subscribers.people_changed(db)
        assert any(f[:2] == ("warning", "Addresses") and f[2].startswith("3 of 40") for f in found(m))
        assert table.waiting_plans(m.workspace.store.read())[0].name == "Late hours"


def test_a_new_domain_is_to_be_warmed_up_however_much_another_has_sent(folder: Path) -> None:
    with mailing(folder, 1_200) as m:
        log = folder / "log.csv"
        rows = (
            f"2026-03-02T09:00:00Z,sent,p{i}@{'postern' if i % 2 else 'saltmere'}.example,Letter\n" for i in range(1_200)
        )
        log.write_text("at,event,email,message\n" + "".join(rows))
        import_events.run(m.workspace.store, log, NOW, "t")

        def volume() -> list[str]:
            return [words for _, check, words in found(m) if check == "Volume"]

        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1}})
        assert volume() == [], "its own history is that of the first domain"
        with m.workspace.store.atomic() as db:
            domain = senders.add_domain(db, "new.kestrelquay.example", "t")
            db.execute("UPDATE from_addresses SET domain = ?", (domain,))
        assert volume() == [
            "new.kestrelquay.example would send 1,200 in a day; before: nothing in the last 60 days. Providers do not know "
            "it with so much mail: use the warm-up of the schedule, with 500 on the first day."
        ]
        campaigns.write(m.workspace, m.campaign, {"plan": {"ramp": 500}})
        assert volume() == []
