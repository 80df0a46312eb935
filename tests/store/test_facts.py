"""Facts about people at any moment, against the obvious look at every row; kept answers are believed only when current."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.arrays import NEVER
from openmeadow.core.consent.eligibility import CONSENT_STATES
from openmeadow.core.errors import Missing
from openmeadow.core.moments import DAY
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments.facts_cache import WORTH_KEEPING, Kept
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import consent, fields, subscribers
from tests.conftest import NOW

PEOPLE = 40


@pytest.fixture
def full(workspace: Workspace) -> Workspace:
    """Random lists, labels, consents, suppressions, verdicts and sequences over 200 days."""
    r = np.random.default_rng(4)

    def someone() -> int:
        return int(r.integers(1, PEOPLE + 1))

    def sometime() -> int:
        return NOW + int(r.integers(-100, 100)) * DAY + int(r.integers(0, 3))

    with workspace.store.atomic() as db:
        for i in range(1, PEOPLE + 1):
            db.execute(
                "INSERT INTO subscribers (email, email_key, joined_at, language, fields) VALUES (?1, ?1, 0, ?2, ?3)",
                (f"p{i}@x.example", ("en", "pt", None)[i % 3], '{"town": "Saltmere"}' if i % 4 == 0 else "{}"),
            )
        fields.add(db, ["town"])
        for table in ("lists", "labels", "purposes"):
            subscribers.named(db, table, "A")
            subscribers.named(db, table, "B")
        subscribers.add_members(db, [(int(r.integers(1, 3)), someone(), sometime(), None) for _ in range(60)])
        subscribers.add_labels(db, [(int(r.integers(1, 3)), someone(), None) for _ in range(30)])
        subscribers.add_suppressions(db, [(someone(), int(r.integers(1, 6)), sometime(), "t", None) for _ in range(20)])
        random_claims = [
            consent.Claim(someone(), int(r.integers(1, 3)), int(r.integers(0, 4)), sometime(), ("email", "post")[i % 2])
            for i in range(300)
        ]
        consent.add(db, random_claims)
        db.executemany(
            "INSERT OR REPLACE INTO address_verdicts VALUES (?, ?, '[]', NULL, 0)",
            [(someone(), int(r.integers(0, 4))) for _ in range(20)],
        )
        db.execute("INSERT INTO sequences (id, name) VALUES (1, 'Welcome')")
        for run in range(25):
            entered = sometime()
            left = entered + int(r.integers(1, 40)) * DAY if r.random() < 0.6 else None
            db.execute(
                "INSERT OR IGNORE INTO enrolments (sequence, subscriber, entered_at, left_at, finished, run) "
                "VALUES (1, ?, ?, ?, ?, ?)",  # nobody is in it twice at a time
                (someone(), entered, left, int(left is not None and r.random() < 0.7), run),
            )
    return workspace


def slow(workspace: Workspace, now: int) -> dict[str, list[int]]:
    """Who holds what at a moment, row by row in plain Python."""
    db = workspace.store.read()
    everyone = range(1, PEOPLE + 1)

    def rows(sql: str) -> list[tuple[int, ...]]:
        return [tuple(r) for r in db.execute(sql)]

    members = {s for s, at in rows("SELECT subscriber, at FROM list_members WHERE list = 1") if at <= now}
    suppressed = {s for s, at in rows("SELECT subscriber, at FROM suppressions") if at <= now}
    latest: dict[int, tuple[int, int, int]] = {}
    by_email = "SELECT subscriber, state, at FROM consent_entries WHERE purpose = 1 AND channel = 'email' AND NOT void"
    for s, state, at in rows(by_email):
        weight = {2: 2, 1: 1}.get(state, 0)  # of one moment a withdrawal stands over a yes, a yes over the rest
        if at <= now:
            latest[s] = max(latest.get(s, (0, 0, 0)), (at, weight, state))
    stays = rows("SELECT subscriber, entered_at, coalesce(left_at, 1 << 62), finished FROM enrolments")
    return {
        'in list "A"': [p for p in everyone if p in members],
        "suppressed": [p for p in everyone if p in suppressed],
        **{
            f'consent to "A" by email is {word}': [p for p in everyone if latest.get(p, (0, 0, 0))[2] == i]
            for i, word in enumerate(CONSENT_STATES)
        },
        'in sequence "Welcome"': sorted({s for s, a, b, _ in stays if a <= now < b}),
        'finished sequence "Welcome"': sorted({s for s, _, b, f in stays if f and b <= now}),
        'language is "pt"': [p for p in everyone if p % 3 == 1],
        'field "town" is "saltmere"': [p for p in everyone if p % 4 == 0],
    }


@pytest.mark.parametrize("days", [-90, -30, 0, 45])
def test_facts_stand_as_they_stood_then(full: Workspace, days: int) -> None:
    now = NOW + days * DAY
    for look in range(2):  # the second time from what was kept
        for rule, expected in slow(full, now).items():
            _, view, parsed, _ = full.count(rule, as_of=now)
            assert (np.flatnonzero(view.mask(parsed)) + 1).tolist() == expected, (rule, look)


def test_facts_of_some_people_are_those_of_all(full: Workspace) -> None:
    everybody = full.view().facts
    assert isinstance(everybody, StoreFacts)
    index = np.array([0, 7, 8, 30])
    some = everybody.only(index)
    for ask in (lambda f: f.consent("A"), lambda f: f.suppressed(), lambda f: f.verdicts(), lambda f: f.in_list("B")):
        assert (ask(some) == ask(everybody)[index]).all()
    assert (some.finished_sequence("Welcome") == everybody.finished_sequence("Welcome")[index]).all()
    assert (everybody.finished_sequence("Welcome") >= NEVER).all()
    with pytest.raises(ValueError, match="ascending"):
        everybody.only(np.array([5, 3]))


@pytest.mark.parametrize(
    ("ask", "words"),
    [
        (lambda f: f.in_list("Aa"), "no list “Aa”; the nearest is “A”"),
        (lambda f: f.field("twon", "is", "x"), "no field “twon”; the nearest is “town”"),
        (lambda f: f.in_sequence("Welcom"), "the nearest is “Welcome”"),
        (lambda f: f.language_is("de"), "no language “de”"),
        (lambda f: f.segment("x"), "no segment “x”; there are none yet"),
        (lambda f: f.message_ids("x"), "no message “x”; there are none yet"),
        (lambda f: f.snapshot("x", "2026-03-12"), "no segment “x”"),
    ],
)
def test_a_name_nobody_knows_names_the_nearest(full: Workspace, ask: object, words: str) -> None:
    with pytest.raises(Missing) as caught:
        ask(full.view().facts)  # type: ignore[operator]
    assert words in str(caught.value)


def test_kept_answers_are_believed_only_when_current(tmp_path: Path) -> None:
    kept, people = Kept(tmp_path / "facts"), WORTH_KEEPING
    answer = np.arange(people, dtype=np.int8)
    kept.at(7)
    kept.put(("consent", 1), 100, 200, people, answer)
    for version, now, count, there in (
        (7, 150, people, True),
        (7, 250, people, False),
        (8, 150, people, False),
        (7, 150, 9, False),
    ):
        other = Kept(tmp_path / "facts")
        other.at(version)
        found = other.get(("consent", 1), now, count)
        assert (found is not None) is there, (version, now, count)
        if found is not None:
            assert np.array_equal(found, answer)
    assert kept.get(("consent", 2), 150, people) is None
    kept.put(("small",), 0, 9, 10, answer[:10])
    assert len(list((tmp_path / "facts").glob("*.npy"))) == 1, "few people are asked again"
    kept.put(("names of many",), 0, 200, people, np.array(["", "Europe/Berlin"]))
    other = Kept(tmp_path / "facts", 7)
    found = other.get(("names of many",), 150, people)
    assert found is not None and found.tolist() == ["", "Europe/Berlin"]
    kept.at(8)
    assert kept.get(("consent", 1), 150, people) is None


def test_a_consent_that_lies_ahead_begins_at_its_moment(full: Workspace) -> None:
    with full.store.atomic() as db:
        consent.add(db, [consent.Claim(40, 1, 1, NOW + 500 * DAY)])
    before = full.count('consent to "A" by email is given', as_of=NOW + 499 * DAY)[0]
    assert full.count('consent to "A" by email is given', as_of=NOW + 500 * DAY)[0] in (before, before + 1)
    assert full.view(NOW + 500 * DAY).facts.consent_is("A", "email", "given")[39]
