"""Exported columns, and rules, scores and the map as SQL over them: the same people as here, on DuckDB."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import replace as dc_replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from openmeadow.core.arrays import NEVER
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.map import DAY_EDGES, LEFT_EDGES
from openmeadow.core.engagement.replay import MEASURES, Replay, replay
from openmeadow.core.engagement.subset import subset
from openmeadow.core.errors import CannotOpen, Refused, RuleMistake
from openmeadow.core.ids import MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.core.warehouse.tables import TABLES
from openmeadow.services.campaigns.resend import ignored
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import import_events, import_subscribers
from openmeadow.services.warehouse import engine, export, labels, sql
from openmeadow.services.workspace import Workspace
from openmeadow.store import parquet
from openmeadow.store import settings as activity
from openmeadow.store.rows import SqlValue
from tests.conftest import NOW, empty_into, set_clock
from tests.services.test_bring_in import put

duckdb = pytest.importorskip("duckdb")
PEOPLE = 90
LADDER = Definition(steps=(Step(key=1, kind="wait"), Step(key=2, kind="wait")))
FIELDS = {
    "town": ("Saltmere", "saltmere", "KELPFORD", "Übersee", "", " "),
    "seats": ("4", "+4.5", "--5", "1.2.3", "four", "-", "12", ""),
    "renewal": ("2026-09-01", "2026-9-1", "2024-02-29T10:00:00", "2026-03-14", "soon", ""),
}


def moment(at: int) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def filled(folder: Path) -> Workspace:
    """People and events of every kind at random, with what tables keep of them besides."""
    lot = random.Random(20260312)
    empty_into(folder)
    workspace = Workspace(folder)
    set_clock(workspace, NOW)
    heads = ["email", "name", "joined_at", "list", "labels", "language", "country", *FIELDS]
    heads += ["suppressed", "consent:News", "consent_at:News", "consent_source:News"]
    rows = [",".join(heads)]
    for i in range(PEOPLE):
        cells = [f"p{i}@{lot.choice('abc')}.example", lot.choice(["Mira", ""]), moment(NOW - lot.randrange(1, 700 * DAY))]
        cells += [lot.choice(["Family", "Paper", ""]), lot.choice(["patron", "guest", ""])]
        cells += [lot.choice(["pt", "DE", ""]), lot.choice(["PT", "de", ""])]
        cells += [lot.choice(v) for v in FIELDS.values()]
        cells.append(lot.choice(["", "", "", "hard bounce", "inactive"]))
        cells += [lot.choice(["given", "withdrawn", "pending", "none"]), moment(NOW - lot.randrange(1, 600 * DAY))]
        cells.append(lot.choice(["Harbour fair", "harbour FAIR", "desk"]))
        rows.append(",".join(cells))
    emails = [r.split(",")[0] for r in rows[1:]]
    import_subscribers.run(workspace.store, put(folder, "p.csv", "\n".join(rows) + "\n"), NOW, "t", source="form")
    events = []
    for person in emails[: PEOPLE - 8]:
        for n in range(lot.randrange(0, 30)):
            at, message = NOW - lot.randrange(1, 500 * DAY), f"Letter {n % 14}"
            events.append({"at": at, "event": "sent", "message": message})
            if lot.random() < 0.15:
                code = lot.choice(["4.2.2", "5.1.1", "5.7.1"])
                events.append({"at": at + 60, "event": "bounced", "message": message, "code": code})
            for kind in ("opened", "opened", "clicked", "replied"):
                if lot.random() < (0.3 if kind == "opened" else 0.08):
                    agent = lot.choice(["Reader", "Reader", "ImageProxy (privacy)", ""])
                    late = {"at": at + lot.randrange(1, 9 * DAY), "event": kind, "message": message, "agent": agent}
                    events.append(late | ({"url": "https://a.example/x"} if kind == "clicked" else {}))
            if lot.random() < 0.05:
                events.append({"at": at + lot.randrange(1, 20 * DAY), "event": "booked", "value": lot.randrange(5, 90)})
        for e in events:
            e.setdefault("email", person)
    lines = [json.dumps(e | {"at": moment(int(e["at"]))}) for e in events if int(e["at"]) < NOW]
    import_events.run(workspace.store, put(folder, "e.ndjson", "\n".join(lines) + "\n"), NOW, "t")
    with workspace.store.atomic() as db:
        ids = [r["id"] for r in db.execute("SELECT id FROM subscribers ORDER BY id")]
        changes: list[tuple[str, SqlValue, SqlValue]] = []
        changes += [("UPDATE subscribers SET rejoined_at = ? WHERE id = ?", NOW - i * DAY, i) for i in ids[::9]]
        changes += [("UPDATE subscribers SET erased_at = ? WHERE id = ?", NOW, i) for i in ids[5::30]]
        for statement, at, row in changes:
            db.execute(statement, (at, row))
        db.execute("INSERT INTO sequences (id, name, definition) VALUES (1, 'Welcome', ?)", (json.dumps(LADDER.json()),))
        for i in ids[::3]:
            entered = NOW - i * DAY
            left = None if i % 2 else entered + i % 5 * DAY
            told = (i, entered, left, int(left is not None and i % 4 == 0), i % 3)
            db.execute(
                "INSERT INTO enrolments (sequence, subscriber, entered_at, left_at, finished, step) VALUES (1, ?, ?, ?, ?, ?)",
                told,
            )
        for i in ids[::4]:
            db.execute("INSERT INTO address_verdicts VALUES (?, ?, '[]', NULL, ?)", (i, i % 4, NOW))
    segments.save(workspace, "Readers", 'opened at least 1 in 200 days or has label "patron"', "t")
    segments.take_snapshot(workspace, segments.every(workspace)[0].id, "t")
    return workspace


@pytest.fixture(scope="module")
def here(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Workspace, Path]]:
    folder = tmp_path_factory.mktemp("warehouse")
    (folder / "data").mkdir()
    workspace = filled(folder / "data")
    export.run(workspace, folder / "out", "t")
    yield workspace, folder / "out"
    workspace.close()


def asked(out: Path, statement: str) -> list[tuple[object, ...]]:
    with duckdb.connect() as db:
        db.execute(parquet.views("duckdb", str(out)))
        found: list[tuple[object, ...]] = db.execute(statement).fetchall()
        return found


CERTAIN = (
    *('in sequence "welcome"', 'in sequence "Welcome" at "wait 2"', 'finished sequence "Welcome"'),
    *('finished sequence "Welcome" more than 30 days ago', 'finished sequence "Welcome" less than 30 days ago'),
    *("never engaged", "rejoined", "suppressed", 'suppressed for "inactive"', 'ignored "Letter 2"'),
    *('permitted for "news"', 'in list "family"', 'has label "Patron"', 'in segment "Readers"'),
    *(f"band is {b}" for b in BANDS),
    *(f'consent to "News" is {s}' for s in ("given", "withdrawn", "pending", "none")),
    *('consent to "News" from source "harbour fair"', "address is deliverable or risky", "address is not checked"),
    *('language is "PT"', 'country is "pt"', 'source is "Form"', 'provider is "Other domains"'),
    *('field "town" is "SALTMERE"', 'field "town" is not "saltmere"', 'field "town" contains "LT"'),
    *('field "Town" is empty', 'field "town" is one of ("kelpford", "übersee")', 'field "town" contains "Ü"'),
    *('field "seats" is at least 4', 'field "seats" is fewer than 4', 'field "renewal" is before 2026-06-01'),
    *('field "renewal" is after 2025-01-01', 'field "renewal" falls within 3 days'),
    f'in segment "Readers" as frozen on {datetime.fromtimestamp(NOW, UTC):%Y-%m-%d}',
)
number, span = st.integers(0, 12), st.integers(1, 500).map(lambda n: f"{n} days")
bound = st.builds("{} {}".format, st.sampled_from(["at least", "at most", "more than", "fewer than"]), number)
clause = st.one_of(
    st.builds(
        "{} {}{}{}".format,
        st.sampled_from(["opened", "opened by anyone", "clicked", "received", "engaged", "replied", "booked"]),
        bound,
        st.sampled_from(["", ' of "letter 3"']),
        st.one_of(st.just(""), span.map(" in {}".format)),
    ),
    bound.map("booked worth {}0 in 400 days".format),
    bound.map("ignored {} in a row".format),
    bound.map("soft bounced {} in a row".format),
    bound.map("score {}".format),
    st.integers(0, 100).map("likely active at least {}%".format),
    st.builds("{} {}{}".format, st.sampled_from(["not engaged in"]), span, st.just("")),
    st.builds(
        "{} {} than {} ago".format, st.sampled_from(["last engaged", "joined"]), st.sampled_from(["more", "less"]), span
    ),
    span.map("engaged within {} of joining".format),
    st.builds('consent to "News" given {} than {} ago'.format, st.sampled_from(["more", "less"]), span),
    st.sampled_from(CERTAIN),
)
rule = st.recursive(
    clause,
    lambda inner: st.one_of(
        inner.map("not ({})".format),
        st.builds("({}) and ({})".format, inner, inner),
        st.builds("({}) or ({})".format, inner, inner),
    ),
    max_leaves=6,
)


@settings(max_examples=150, suppress_health_check=list(HealthCheck))
@given(rule)
def test_any_rule_finds_the_same_people(here: tuple[Workspace, Path], text: str) -> None:
    workspace, out = here
    view = workspace.view()
    try:
        mask = view.mask(workspace.checked_rule(text, view))
    except RuleMistake as e:  # a figure that cannot be
        assert "can never be true" in str(e) or "always true" in str(e), text
        return
    found = [int(str(row[0])) for row in asked(out, sql.segment(workspace, text, "duckdb"))]
    assert sorted(found) == view.columns.people.id[mask].tolist(), text
    assert sql.segment(workspace, text, "spark").startswith(("WITH", "SELECT"))


def test_every_condition_finds_the_same_people(here: tuple[Workspace, Path]) -> None:
    """One by one, so that none waits for its lot; most of them find some people and not others."""
    workspace, out = here
    view, tells = workspace.view(), 0
    for text in CERTAIN:
        mask = view.mask(workspace.checked_rule(text, view))
        for written in (text, f"not ({text})"):
            found = [int(str(row[0])) for row in asked(out, sql.segment(workspace, written, "duckdb"))]
            assert sorted(found) == view.columns.people.id[mask if written == text else view.alive & ~mask].tolist(), (
                written
            )
        tells += 0 < int(mask.sum()) < int(view.alive.sum())
    assert tells > 0.85 * len(CERTAIN)


def test_everybody_stands_where_they_stand_here(here: tuple[Workspace, Path]) -> None:
    workspace, out = here
    view = workspace.view()
    s, ids = view.scores, view.columns.people.id.tolist()
    rows = asked(out, sql.question(workspace, "standing", "joined more than 0 days ago", "duckdb"))
    assert len(rows) == int(view.alive.sum()) > 80 and len({BANDS.index(str(r[-1])) for r in rows}) >= 5
    for person, _, x, t, n, active, chance, score, band in rows:
        i = ids.index(person)
        assert (x, t, n, band) == (s.x[i], s.t[i], s.n[i], BANDS[s.band[i]]), person
        assert (active, chance, score) == (s.active[i], s.chance[i], s.score[i])
    cells = asked(out, sql.question(workspace, "map", "joined more than 0 days ago", "duckdb"))
    days = np.where(s.last_engaged == NEVER, -1, (view.now - s.last_engaged) // DAY)
    assert sum(int(str(c[3])) for c in cells) == len(rows)
    never_many = int((view.alive & (days == -1) & (s.ignored >= LEFT_EDGES[3]) & (s.ignored < LEFT_EDGES[4])).sum())
    assert sum(int(str(c[3])) for c in cells if c[:2] == ("never", "6–10")) == never_many
    lately = view.alive & (days >= DAY_EDGES[1]) & (days < DAY_EDGES[2])
    assert sum(int(str(c[3])) for c in cells if c[0] == "8–30") == int(lately.sum()) > 0
    (expected,) = asked(out, sql.question(workspace, "expected", 'has label "patron"', "duckdb"))
    patrons = view.mask(workspace.checked_rule('has label "patron"', view))
    assert expected[1] == int(patrons.sum()) and float(str(expected[2])) == pytest.approx(s.chance[patrons].sum())


def replayed(workspace: Workspace, past: int) -> Replay:
    """The replay of so many days, without people who are erased."""
    view, troubles = workspace.view(), workspace.troubles()
    troubles = troubles.take(view.alive[troubles.person])
    place = np.cumsum(view.alive, dtype=np.int32) - 1
    troubles = dc_replace(troubles, person=place[troubles.person])
    return replay(subset(view.columns, np.flatnonzero(view.alive)), troubles, view.now - past * DAY, view.now)


def left_ignored(workspace: Workspace, letter: int, rule: str = "not engaged") -> set[int]:
    """Who left a letter ignored and may be mailed."""
    view = workspace.view()
    permitted = view.columns.people.id[view.mask(workspace.checked_rule('permitted for "News"', view))]
    message = MessageId(view.facts.message_ids(f"Letter {letter}")[0])
    return set(ignored(view, message, rule).tolist()) & set(permitted.tolist())


def test_the_replay_is_that_of_here(here: tuple[Workspace, Path]) -> None:
    workspace, out = here
    for past in (400, 90):
        found = replayed(workspace, past)
        left = {m: float(s.sum()) for m, s in found.for_good.items()}
        for days, many in ((0, 0), (30, 1), (90, 2), (365, 3)):
            rows = asked(out, sql.replay(workspace, days, many, past, "joined more than 0 days ago", "duckdb"))
            told = {str(r[0]): dict(zip(MEASURES, (float(str(v)) for v in r[1:]), strict=True)) for r in rows}
            assert told == {"as it was": left, "with the cut-off": found.without(days, many)}, (days, many)
            assert left["messages"] > 70 and min(left[m] for m in ("opens", "bookings", "hard bounces")) > 0
    assert sql.replay(workspace, 30, 1, 365, 'has label "patron"', "spark").startswith("WITH")


def test_tables_are_as_their_schema_says_and_only_what_changed_is_written_anew(
    here: tuple[Workspace, Path], tmp_path: Path
) -> None:
    workspace, out = here
    document = json.loads((out / "schema.json").read_text())
    assert document["version"] == 2 and {t["name"] for t in document["tables"]} == {t.name for t in TABLES}
    for table in TABLES:
        described = asked(out, f"DESCRIBE {table.name}")
        assert [(r[0], r[1]) for r in described] == [(c.name, c.type) for c in table.columns], table.name
        filled_in = [c.name for c in table.columns if not c.empty]
        where = " OR ".join(f'"{c}" IS NULL' for c in filled_in)
        assert asked(out, f"SELECT count(*) FROM {table.name} WHERE {where}") == [(0,)], table.name
    assert asked(out, "SELECT count(*) FROM people WHERE person NOT IN (SELECT person FROM consent)") is not None
    before = {p: p.stat().st_mtime_ns for p in out.rglob("*.parquet")}
    again = export.run(workspace, out, "t")
    assert again.written == 0 and {p: p.stat().st_mtime_ns for p in out.rglob("*.parquet")} == before
    line = json.dumps({"at": moment(NOW - 3600), "event": "sent", "email": "p1@a.example", "message": "Fresh"})
    line = line.replace("p1@a.example", str(asked(out, "SELECT min(email) FROM people")[0][0]))
    import_events.run(workspace.store, put(workspace.folder, "f.ndjson", line + "\n"), NOW, "t")
    more = export.run(workspace, out, "t")
    month = f"deliveries/{datetime.fromtimestamp(NOW, UTC):%Y-%m}.parquet"
    changed = {str(p.relative_to(out)) for p, at in before.items() if p.stat().st_mtime_ns != at}
    assert month in changed and more.written == len(changed) <= 4, changed
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "mine.txt").write_text("kept")
    with pytest.raises(CannotOpen, match="holds something else"):
        export.run(workspace, tmp_path / "other", "t")
    with pytest.raises(CannotOpen, match=r"requirements/columns\.lock"):
        engine.needed("no_such_library")


def test_what_was_worked_out_elsewhere_comes_back_as_a_label(here: tuple[Workspace, Path], tmp_path: Path) -> None:
    workspace, out = here
    statement = sql.segment(workspace, "band is Strong", "duckdb").removesuffix(";")
    with duckdb.connect() as db:
        db.execute(parquet.views("duckdb", str(out)))
        db.execute(f"COPY ({statement}) TO '{tmp_path / 'strong.parquet'}' (FORMAT parquet)")
        db.execute(f"COPY (SELECT email AS \"E-Mail\" FROM ({statement})) TO '{tmp_path / 'strong.csv'}' (DELIMITER ';')")
    strong = workspace.count("band is Strong")[0]
    by_number = labels.run(workspace, tmp_path / "strong.parquet", "away", "the warehouse", "t")
    assert (by_number.people, by_number.added, by_number.unknown) == (strong, strong, 0) and strong > 2
    assert workspace.count('has label "away" and band is Strong')[0] == workspace.count('has label "away"')[0] == strong
    with (tmp_path / "strong.csv").open("a") as f:
        f.write("nobody@x.example\n\n")
    by_address = labels.run(workspace, tmp_path / "strong.csv", "away", "", "t")
    assert (by_address.people, by_address.added, by_address.unknown_shown) == (strong, 0, ["nobody@x.example"])
    lines = [(r.act, r.what, r.people) for r in activity.activity(workspace.store.read(), 9)]
    assert ("imported a label", "away, from the warehouse", strong) in lines
    for name, text, said in (
        ("a.csv", "town\nx\n", "no column"),
        ("b.parquet", "no", "cannot be read"),
        ("c.csv", "", "none"),
    ):
        with pytest.raises((Refused, CannotOpen), match=said):
            labels.run(workspace, put(tmp_path, name, text), "away", "", "t")


def test_the_people_of_a_resend_are_those_of_here(here: tuple[Workspace, Path], tmp_path: Path) -> None:
    workspace, _ = here
    letter = max(range(14), key=lambda n: len(left_ignored(workspace, n)))
    due = left_ignored(workspace, letter)
    often = sorted(due)[:2]

    def asked_for(text: str = "joined more than 0 days ago", purpose: str = "news") -> set[int]:
        rows = asked(tmp_path / "out", sql.resend(workspace, f"letter {letter}", purpose, text, "duckdb"))
        return {int(str(r[0])) for r in rows}

    with pytest.raises(Refused, match="--purpose"):
        sql.resend(workspace, "Letter 1", "", "rejoined", "duckdb")
    with workspace.store.atomic() as db:
        plan = json.dumps({"resend_rule": "opened, not clicked"})
        columns = "(id, name, seed, made_at, purpose, plan, message)"
        db.execute(f"INSERT INTO campaigns {columns} VALUES (1, 'c', 1, ?, 1, '{{}}', 1)", (NOW,))
        for n in (1, 2):
            db.execute("INSERT INTO sends (id, campaign, kind) VALUES (?, 1, ?)", (n, ("resend", "second resend")[n - 1]))
            db.execute("INSERT INTO batches (id, send, n, due_at) VALUES (?, ?, 1, ?)", (n, n, NOW))
            for s in often:
                entry = (n, n, s, NOW - 3600)
                db.execute(
                    "INSERT INTO deliveries (send, batch, subscriber, state, changed_at) VALUES (?, ?, ?, 'sent', ?)",
                    entry,
                )
    export.run(workspace, tmp_path / "out", "t")
    assert asked_for() == due - set(often) and len(due) > 3
    assert asked_for('has label "patron"') < due
    with workspace.store.atomic() as db:
        db.execute(
            "UPDATE campaigns SET message = (SELECT id FROM messages WHERE name = ?), plan = ?",
            (f"Letter {letter}", plan),
        )
    assert asked_for() == left_ignored(workspace, letter, "opened, not clicked") - set(often)


def test_events_come_in_as_parquet(workspace: Workspace, tmp_path: Path) -> None:
    import_subscribers.run(workspace.store, put(tmp_path, "p.csv", "email\na@x.example\n"), NOW, "t", source="form")
    file = tmp_path / "events.parquet"
    rows = (
        "(TIMESTAMPTZ '2026-01-02 10:00:00+02', 'sent', 'a@x.example', 'Letter', NULL)",
        "(TIMESTAMPTZ '2026-01-02 11:00:00+02', 'opened', 'a@x.example', 'Letter', 'Reader')",
        "(TIMESTAMPTZ '2026-01-02 11:00:00+02', 'seen', 'a@x.example', 'Letter', NULL)",
        "(TIMESTAMPTZ '2026-01-02 11:00:00+02', 'sent', 'b@x.example', 'Letter', NULL)",
    )
    with duckdb.connect() as db:
        db.execute(f"COPY (SELECT * FROM (VALUES {','.join(rows)}) t(\"at\", event, email, message, agent)) TO '{file}'")
    for taken, repeated in ((2, 0), (0, 2)):
        report = import_events.run(workspace.store, file, NOW, "t", refused_to=tmp_path / "refused.csv")
        assert (report.rows, report.taken, report.repeated, report.aside) == (4, taken, repeated, 1)
        assert "seen" in (tmp_path / "refused.csv").read_text(encoding="utf-8")
    assert workspace.count('opened at least 1 of "Letter"')[0] == 1
    first = workspace.store.read().execute("SELECT min(at) FROM events").fetchone()[0]
    assert moment(int(first)) == "2026-01-02T08:00:00Z"
    with pytest.raises(CannotOpen, match="no such file"):
        import_events.run(workspace.store, tmp_path / "away.parquet", NOW, "t")
    with pytest.raises(CannotOpen, match="as Parquet"):
        import_events.run(workspace.store, put(tmp_path, "no.parquet", "at,event"), NOW, "t")


def test_an_empty_workspace_has_every_table(workspace: Workspace, tmp_path: Path) -> None:
    export.run(workspace, tmp_path / "out", "t")
    for question, rows in (("standing", []), ("map", []), ("expected", [])):
        assert asked(tmp_path / "out", sql.question(workspace, question, "joined more than 0 days ago", "duckdb")) == rows
    assert asked(tmp_path / "out", sql.segment(workspace, "opened at most 2 in 60 days", "duckdb")) == []
    (was, cut) = asked(tmp_path / "out", sql.replay(workspace, 30, 1, 365, "joined more than 0 days ago", "duckdb"))
    assert {*was[1:], *cut[1:]} == {0}
    with pytest.raises(CannotOpen, match="cannot be written to"):
        export.run(workspace, put(tmp_path, "file", ""), "t")
