"""News beside the columns: what it says must be what columns made anew say, whatever came in which order."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import fields
from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.columns import Acts, Rows
from openmeadow.core.engagement.score import OF_PEOPLE
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.rules.late_view import LateView
from openmeadow.core.rules.parser import parse
from openmeadow.services.kept_columns import Sizes, may_lag
from openmeadow.services.subscribers import import_events, import_subscribers, profile
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import event_hours
from tests.conftest import NOW, set_clock

COUNT, MESSAGES = 300, 12
RULES = (
    "opened at least 2 in 60 days",
    "opened by anyone at least 3 in 90 days",
    "clicked at least 1 in 90 days and not (replied at least 1 in 90 days)",
    "received at least 4 in 60 days",
    "engaged within 30 days of joining",
    "not engaged in 30 days or never engaged",
    "ignored at least 3 in a row",
    'ignored "M3" and opened at least 1 in 90 days',
    "band is Strong or Steady",
    "score at least 10",
    "last engaged more than 20 days ago",
    "soft bounced at least 1 in a row",
    'in list "News" and joined more than 10 days ago',
    "booked at least 1 in 90 days",
)


def log(r: random.Random, people: int, rows: int, since: int, until: int) -> str:
    out = ["at,event,email,message,code,agent"]
    kinds = ["sent"] * 4 + ["opened"] * 4 + ["clicked", "replied", "booked", "bounced"]
    for _ in range(rows):
        kind, i = r.choice(kinds), r.randrange(people)
        code = "4.2.2" if kind == "bounced" else ""
        message = "" if kind == "booked" and r.random() < 0.5 else f"M{r.randrange(MESSAGES)}"
        out.append(
            f"{rfc3339(r.randrange(since, until))},{kind},p{i}@postern.example,{message},{code},Mail {r.randrange(4)}"
        )
    return "\n".join(out) + "\n"


def put(folder: Path, name: str, text: str) -> Path:
    path = folder / name
    path.write_text(text)
    return path


def people(first: int, last: int) -> str:
    lines = [f"p{i}@postern.example,2025-{1 + i % 12:02}-0{1 + i % 9}T00:00:00Z,News" for i in range(first, last)]
    return "email,joined_at,list\n" + "\n".join(lines) + "\n"


@pytest.fixture
def late(folder: Path) -> Iterator[Workspace]:
    w = Workspace(folder, sizes=Sizes(late_from=0))
    r = random.Random(1)
    import_subscribers.run(w.store, put(folder, "p.csv", people(0, COUNT)), NOW, "t")
    import_events.run(w.store, put(folder, "e.csv", log(r, COUNT, 6_000, NOW - 100 * DAY, NOW)), NOW, "t")
    yield w
    w.close()


def the_same(late: Workspace, folder: Path) -> None:
    anew = Workspace(folder, sizes=Sizes(late_from=1 << 60))
    set_clock(anew, late.now())
    try:
        mine, theirs = late.view(), anew.view()
        for text in RULES:
            rule = parse(text)
            assert (mine.mask(rule) == theirs.mask(rule)).all(), text
        assert (mine.last_engaged == theirs.last_engaged).all()
        for name in OF_PEOPLE:
            assert np.allclose(getattr(mine.scores, name), getattr(theirs.scores, name)), name
        for message in range(1, MESSAGES + 1):
            for name, kind in (("rows_of", Rows), ("acts_of", Acts)):
                a, b = getattr(mine, name)(message), getattr(theirs, name)(message)
                assert all((getattr(a, f.name) == getattr(b, f.name)).all() for f in fields(kind)), (name, message)
        for person in (0, 7, COUNT - 1):
            assert profile.trace(mine, person) == profile.trace(theirs, person)
        assert event_hours.wrong(late.store.read()) == 0
    finally:
        anew.close()


@pytest.mark.parametrize("seed", range(4))
def test_news_says_what_columns_made_anew_say(late: Workspace, folder: Path, seed: int) -> None:
    r, now, seen, there = random.Random(seed), NOW, 0, COUNT
    late.view().scores  # noqa: B018
    for step in range(8):
        now += r.choice((0, 5, HOUR, 3 * DAY))
        set_clock(late, now)
        if r.random() < 0.3:  # newcomers
            import_subscribers.run(late.store, put(folder, "n.csv", people(there, there + 5)), now, "t")
            there += 5
        since = now - r.choice((60, DAY, 40 * DAY))
        import_events.run(late.store, put(folder, "l.csv", log(r, there, r.choice((1, 8, 25)), since, now)), now, "t")
        view = late.view()
        seen += isinstance(view, LateView)
        if r.random() < 0.3:
            assert len(view.columns.rows) >= len(view.columns.people) // 2  # asked for everybody: put together
        if step % 2:
            the_same(late, folder)
    assert seen, "news stood beside the columns"


def test_a_new_minute_and_news_leave_the_rest_alone(late: Workspace, folder: Path) -> None:
    whole = late.view()
    before, scores = whole.columns.rows.first_at, whole.scores
    set_clock(late, NOW + 59)
    assert late.view().scores is scores
    import_events.run(late.store, put(folder, "l.csv", log(random.Random(3), 40, 30, NOW, NOW + 59)), NOW + 59, "t")
    view = late.view()
    assert isinstance(view, LateView) and view.base is not None
    assert view.base.columns.rows.first_at is before and view.base.streams.made is whole.streams.made
    asked: list[str] = []
    late.store.read().set_trace_callback(asked.append)
    assert len(view.columns.rows.first_at) > 0
    late.store.read().set_trace_callback(None)
    assert not any("subscriber IN" in sql for sql in asked), "what is known of them is put in place and not read again"
    agents = late.machines().judged
    late.view_of(np.array([1, 2], np.int64))
    assert late.machines().judged is agents and len(agents) == 5, "each agent is judged once"


def test_a_large_import_is_read_beside_the_view_that_serves(late: Workspace, folder: Path) -> None:
    """Columns in a process of its own, and a view of before until they are there."""
    late.close()
    large = Workspace(folder, sizes=Sizes(late_from=0, most_late=20, apart_from=0, many_events=100, calm=0.1))
    try:
        first = large.view()  # nothing to show yet: waits for the process
        assert not large.columns.is_behind and len(first.columns.rows) and (folder / "columns" / "whole.json").exists()
        large.view().scores  # noqa: B018
        r = random.Random(5)
        for rows, said in ((60, "put in place by the process"), (2_000, "made anew by the process")):
            import_subscribers.run(large.store, put(folder, "n.csv", people(COUNT, COUNT + 9)), NOW, "t")
            import_events.run(large.store, put(folder, "l.csv", log(r, COUNT + 9, rows, NOW - 9 * DAY, NOW)), NOW, "t")
            seen = large.columns.kept.seen  # type: ignore[union-attr]
            with may_lag():
                before = large.view()
                assert large.columns.is_behind and large.columns.kept.seen == seen, said  # type: ignore[union-attr]
                assert len(before.alive) == COUNT + 9 and before.mask(parse('in list "News"')).sum() == COUNT + 9
            the_same(large, folder)  # asked without leave to lag: waits
            assert not large.columns.is_behind, said
    finally:
        large.close()
