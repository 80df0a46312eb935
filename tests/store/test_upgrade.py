"""A workspace as the version before 0.10 left it opens in the new words, with all that is in it."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from pathlib import Path

import pytest

from openmeadow.core.errors import NoSpace
from openmeadow.core.rules.parser import parse
from openmeadow.services.segments import segments
from openmeadow.services.workspace import Workspace
from openmeadow.store import connection, settings, upgrade_copy
from tests.conftest import NOW

LAST = "0025_evidence.sql"
STEP = {
    "meets": True,
    "off": False,
    "name": "",
    "wait": 0,
    "hour": None,
    "weekdays": [],
    "own_zone": False,
    "purposes": [],
}
STEP |= {"asks": "answered", "of": 0, "rule": "", "yes": "go on", "no": "second lane", "value": "", "take": False}
LADDER = {
    "steps": [
        {**STEP, "key": 1, "kind": "message", "lane": 1, "subject": "", "preview": ""},
        {**STEP, "key": 2, "kind": "question", "lane": 1, "of": 1, "subject": "", "preview": ""},
        {**STEP, "key": 3, "kind": "repeat", "lane": 2, "of": 1, "subject": "Again", "preview": ""},
        {**STEP, "key": 4, "kind": "let go", "lane": 1, "subject": "", "preview": ""},
    ],
    "begin": {"on": "by hand", "what": "", "by_lot": True},
    "leave": {"answered": True, "confirmed": False, "booked": False, "rule": "no answer in 90 days"},
    "held_back": 0.1,
}
PLAN = {"lead_share": 0.1, "held_share": 0.2, "arms": [], "resend_rule": "not answered", "order": "by lot", "batches": 3}
ROWS = """
INSERT INTO purposes (id, name) VALUES (1, 'News');
INSERT INTO doors (id, name) VALUES (1, 'Foyer');
INSERT INTO subscribers (id, email, email_key, joined_at, door) VALUES
  (1, 'a@x.example', 'a@x.example', 5, 1), (2, 'b@x.example', 'b@x.example', 6, NULL);
INSERT INTO suppressions (subscriber, reason, at, source) VALUES (2, 4, 9, 'x');
INSERT INTO segments (id, name, rule, made_at, changed_at) VALUES
  (1, 'Answered lately', 'no answer in 30 days and unanswered at least 2', 1, 1),
  (2, 'Mine', 'in segment "Answered lately" or band is Silent or Veiled', 1, 1),
  (3, 'Left', 'came by "Foyer" or suppressed for "let go" or inside sequence "Welcome"', 1, 1);
INSERT INTO frozen (id, segment, rule, at, people) VALUES (1, 1, 'no answer in 30 days', 7, 1);
INSERT INTO frozen_people (frozen, subscriber) VALUES (1, 1);
INSERT INTO messages (id, name) VALUES (1, 'Evening');
INSERT INTO domains (id, name, token, state, records) VALUES
  (1, 'k.example', 't', 'mend', '[{"record": "SPF", "state": "holds"}]');
INSERT INTO campaigns (id, name, seed, made_at, state, message, html, plan) VALUES
  (1, 'Evening', 1, 1, 'held', 1, '<p>{% if holds("never answered") %}Hello{% endif %}</p>', :plan);
INSERT INTO sequences (id, name, ladder, state) VALUES (1, 'Welcome', :ladder, 'running');
INSERT INTO sequence_stays (id, sequence, subscriber, entered_at, lane) VALUES (1, 1, 1, 8, 2);
INSERT INTO passes (id, campaign, kind) VALUES (1, 1, 'first');
INSERT INTO batches (id, pass, n, due_at, state) VALUES (1, 1, 1, 9, 'gone'), (2, 1, 2, 99, 'waiting');
INSERT INTO deliveries (id, pass, batch, subscriber, state, stay) VALUES
  (1, 1, 1, 1, 'handed over', 0), (2, 1, 2, 2, 'in doubt', 0);
INSERT INTO clean_up_stays (id, subscriber, began_at, next_at, ended_at, outcome) VALUES (1, 2, 1, 2, 3, 'let go');
INSERT INTO settings (name, value) VALUES
  ('word_to', '["a@x.example"]'), ('clean_up', '{"by_itself": true, "ask_veiled": false}');
"""


@pytest.fixture
def before(tmp_path: Path) -> Path:
    """A data folder in the tables and words of the version before."""
    folder = tmp_path / "data"
    (folder / "pictures").mkdir(parents=True)
    db = sqlite3.connect(folder / "meadow.db", isolation_level=None)
    db.execute("CREATE TABLE migrations (name TEXT PRIMARY KEY) WITHOUT ROWID")
    for script in connection._scripts():
        if script.name > LAST:
            break
        db.executescript(script.read_text())
        db.execute("INSERT INTO migrations VALUES (?)", (script.name,))
    values = {"plan": json.dumps(PLAN), "ladder": json.dumps(LADDER)}
    for statement in ROWS.strip().split(";\n"):
        db.execute(statement, {k: v for k, v in values.items() if f":{k}" in statement})
    db.close()
    return folder


def test_a_workspace_of_the_version_before_opens(before: Path) -> None:
    workspace = Workspace(before)
    db = workspace.store.read()
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    assert {r["strict"] for r in db.execute("PRAGMA table_list") if r["type"] == "table" and r["schema"] == "main"} <= {
        0,
        1,
    }
    loose = {r["name"] for r in db.execute("PRAGMA table_list") if r["type"] == "table" and not r["strict"]}
    assert {n for n in loose if not n.startswith("sqlite_")} <= {"migrations"}
    rules = {r["name"]: r["rule"] for r in db.execute("SELECT name, rule FROM segments")}
    assert rules == {
        "Recently engaged": "not engaged in 30 days and ignored at least 2 in a row",
        "Mine": 'in segment "Recently engaged" or band is Inactive or Masked',
        "Left": 'source is "Foyer" or suppressed for "inactive" or in sequence "Welcome"',
    }
    assert all(parse(rule) for rule in rules.values())
    assert {s.name: s.count for s in segments.every(workspace)} == {"Recently engaged": 0, "Mine": 0, "Left": 2}
    (snapshot,) = db.execute("SELECT s.rule, p.subscriber FROM snapshots s JOIN snapshot_people p ON p.snapshot = s.id")
    assert tuple(snapshot) == ("not engaged in 30 days", 1)
    assert [r["state"] for r in db.execute("SELECT state FROM deliveries ORDER BY id")] == ["sent", "unconfirmed"]
    assert [r["state"] for r in db.execute("SELECT state FROM batches ORDER BY id")] == ["sent", "scheduled"]
    campaign = db.execute("SELECT state, html, plan FROM campaigns").fetchone()
    plan = json.loads(campaign["plan"])
    assert campaign["state"] == "paused" and 'matches("never engaged")' in campaign["html"]
    assert (plan["pilot_share"], plan["holdout_share"], plan["resend_rule"], plan["order"]) == (
        *(0.1, 0.2),
        *("not engaged", "at random"),
    )
    domain = db.execute("SELECT state, records FROM domains").fetchone()
    assert domain["state"] == "warning" and json.loads(domain["records"])[0]["state"] == "pass"
    assert db.execute("SELECT path FROM enrolments").fetchone()["path"] == 2
    assert db.execute("SELECT outcome FROM sunset_enrolments").fetchone()["outcome"] == "suppressed"
    assert settings.setting(db, "alert_to") == ["a@x.example"]
    assert settings.setting(db, "sunset_policy") == {"automatic": True, "ask_masked": False}
    assert (before / "images").is_dir() and not (before / "pictures").exists()
    workspace.close()
    Workspace(before).close()  # once


def test_a_sequence_of_the_version_before_goes_on(before: Path) -> None:
    workspace = Workspace(before)
    stored = json.loads(workspace.store.read().execute("SELECT definition FROM sequences").fetchone()["definition"])
    assert [s["kind"] for s in stored["steps"]] == ["message", "condition", "resend", "suppress"]
    assert [s["path"] for s in stored["steps"]] == [1, 1, 2, 1]
    assert (stored["steps"][1]["yes"], stored["steps"][1]["no"], stored["steps"][1]["asks"]) == (
        *("continue", "follow-up path"),
        "engaged",
    )
    assert stored["leave"] == {"engaged": True, "confirmed": False, "booked": False, "rule": "not engaged in 90 days"}
    assert stored["begin"]["on"] == "manual" and stored["begin"]["random"] and stored["holdout"] == 0.1
    workspace.close()


def test_the_database_is_copied_before_it_is_upgraded(before: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(upgrade_copy.WITHOUT, "1")
    other = before.parent / "other"
    shutil.copytree(before, other)
    Workspace(other).close()
    assert not (other / upgrade_copy.FOLDER).exists()
    monkeypatch.delenv(upgrade_copy.WITHOUT)
    asked = "SELECT name, rule FROM segments ORDER BY name"
    old = sqlite3.connect(before / "meadow.db")
    rules = old.execute(asked).fetchall()
    old.close()
    Workspace(before).close()
    (kept,) = (before / upgrade_copy.FOLDER).iterdir()
    assert kept.name == LAST.replace(".sql", ".db") and kept.stat().st_mode & 0o777 == 0o600
    copy = sqlite3.connect(kept)
    assert copy.execute(asked).fetchall() == rules, "as it was"
    copy.close()
    Workspace(before).close()
    assert list((before / upgrade_copy.FOLDER).iterdir()) == [kept], "once"
    assert upgrade_copy.remove_old(before) == 0 and kept.exists()
    os.utime(kept, (NOW, NOW))
    assert upgrade_copy.remove_old(before) == 1 and not kept.exists()
    with pytest.raises(NoSpace, match="copies the database first"):
        upgrade_copy.make(sqlite3.connect(":memory:"), before, LAST, 10**18)
