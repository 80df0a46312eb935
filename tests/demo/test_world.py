"""The demo's world: every trouble is in it, and the score ranks its people by their true chance to answer."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.authentication.questions import Question
from openmeadow.core.columns import MACHINE
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.score import last_engaged
from openmeadow.core.moments import DAY
from openmeadow.demo import build, sequence
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.demo.mail_world.habits import SOURCES, Habits, chance_to_open, draw
from openmeadow.net.dns import Resolver, publish
from openmeadow.services.campaigns import benchmarks, results
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.sequences import sequences
from tests.services.mailing import deliveries_of

PEOPLE = 3000


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Workspace]:
    folder = tmp_path_factory.mktemp("demo") / "data"
    build.build(folder, PEOPLE)
    workspace = Workspace(folder)
    yield workspace
    workspace.close()


def habits(workspace: Workspace) -> Habits:
    return Habits.load(workspace.folder / "mail_world" / "people.npz")


def test_the_same_seed_gives_the_same_people() -> None:
    a, b = draw(200, build.NOW), draw(200, build.NOW)
    assert all(np.array_equal(getattr(a, k), getattr(b, k)) for k in vars(a))
    assert all(e.rpartition(".")[2] in ("example", "test") for e in a.email)


@pytest.mark.parametrize(
    ("trouble", "rule", "least"),
    [
        ("people who stopped after a summer", "band is Inactive and not (never engaged)", 100),
        ("mistyped addresses from a paper form", 'in list "Autumn fair paper form"', 8),
        (
            "an imported list without consent",
            'in list "Hall guests 2024" and consent to "Season news" by email is none',
            80,
        ),
        ("people read only by a privacy proxy", "band is Masked", 50),
        ("new people", "band is Unproven and joined less than 30 days ago", 80),
        (
            "people who never open but book by telephone",
            "booked at least 1 in 400 days and not (opened at least 1 in 400 days)",
            10,
        ),
        ("people who await confirmation", 'consent to "Season news" by email is pending', 5),
    ],
)
def test_every_trouble_is_there(made: Workspace, trouble: str, rule: str, least: int) -> None:
    assert made.count(rule)[0] >= least, trouble


def test_deferrals_and_a_dead_domain(made: Workspace) -> None:
    db = made.store.read()
    recent = db.execute("SELECT count(*) FROM events WHERE kind = 3 AND at > ?", (build.NOW - 22 * DAY,)).fetchone()[0]
    older = db.execute("SELECT count(*) FROM events WHERE kind = 3 AND at <= ?", (build.NOW - 22 * DAY,)).fetchone()[0]
    assert recent > 50 and older == 0, "a provider began to defer"
    dead = db.execute(
        "SELECT count(*) FROM suppressions s JOIN subscribers p ON p.id = s.subscriber WHERE reason = 1 "
        "AND email LIKE '%@tidewatch.example'"
    ).fetchone()[0]
    assert dead > 5
    h = habits(made)
    typed = [e for e, d in zip(h.email, h.source, strict=True) if SOURCES[d] == "Autumn fair paper form"]
    assert all(e.split("@")[1] in ("lanternmial.example", "postren.example", "brinebx.example") for e in typed)


def test_the_past_campaigns_are_one_with_the_history(made: Workspace) -> None:
    """Their ledgers say what the event log says; who was holdout group, or answered in time, got no second copy."""
    db = made.store.read()
    done = [c for c in campaigns.every(db) if c.state == "finished"]
    assert len(done) == 4
    for c in done:
        sent = Counter(
            e["subscriber"]
            for e in db.execute("SELECT subscriber FROM events WHERE message = ? AND kind = 1", (c.message,))
        )
        first, again = (deliveries_of(db, c.id, kind) for kind in ("first", "resend"))
        assert {d.subscriber for d in first} == set(sent) and {d.state for d in first} == {"sent"}
        twice = {d.subscriber for d in again if d.state == "sent"}
        assert {s for s, n in sent.items() if n == 2} == twice and max(sent.values()) == 2
        held = {d.subscriber for d in again if d.reason == "holdout"}
        assert not held & twice and len(held) == pytest.approx(0.15 * len(again), abs=3)
        started = {b.id: b.due_at for b in batch_table.batches(db, c.id) if b.kind == "resend"}
        answers = people_s_engagement(made, c.message)
        assert all(answers.get(d.subscriber, build.NOW) > started[d.batch] for d in again)
        found = results.results(made, c.id)
        assert {b.state for b in found.batches} == {"sent"} and found.verdict
    repeats = [s for s in sequence.LADDER.steps if s.kind == "resend"]
    assert benchmarks.resends(made).campaigns == 4 + len(repeats)
    assert not deliveries.next_due(db) or deliveries.next_due(db) >= build.NOW, "nothing of them is left to do"


def people_s_engagement(workspace: Workspace, message: int) -> dict[int, int]:
    """Each person's first answer to a message."""
    view, out = workspace.view(), dict[int, int]()
    acts = view.columns.acts
    mine = (acts.message == message) & (acts.by != MACHINE)
    for i, at in zip(acts.person[mine].tolist(), acts.at[mine].tolist(), strict=True):
        s = int(view.columns.people.id[i])
        out[s] = min(out.get(s, at), at)
    return out


def test_the_sequence_stands_where_its_ladder_says(made: Workspace) -> None:
    db = made.store.read()
    (row,) = sequences.every(db)
    inside = db.execute("SELECT * FROM enrolments WHERE sequence = ? AND left_at IS NULL", (row.id,)).fetchall()
    assert row.state == "running" and inside
    assert all(build.NOW - sequence.SINCE <= t["entered_at"] <= build.NOW for t in inside)
    assert min(t["due_at"] for t in inside) > build.NOW, "whatever was due is done"
    standing = {r.step: r.people for r in sequences.steps(db, row.id)}
    assert sum(standing.values()) == len(inside) and len(standing) >= 4, "over the whole definition"


def auc(score: np.ndarray, truth: np.ndarray) -> float:  # type: ignore[type-arg]
    """The chance that a person who answers stands above one who does not (Mann and Whitney's U)."""
    order = np.argsort(score, kind="stable")
    ranks = np.empty(len(score))
    ranks[order] = np.arange(1, len(score) + 1)
    good = int(truth.sum())
    return float((ranks[truth].sum() - good * (good + 1) / 2) / (good * (len(truth) - good)))


def test_the_score_ranks_by_the_true_chance(made: Workspace) -> None:
    """Beside recency and the folklore of 90 days, on who answers one of the next three messages."""
    view, h = made.view(), habits(made)
    order = np.argsort(
        [
            view.facts.db.execute(  # type: ignore[attr-defined]
                "SELECT id FROM subscribers WHERE email_key = ?", (e,)
            ).fetchone()[0]
            for e in h.email
        ]
    )
    chance = chance_to_open(h, build.NOW)[order]
    truth = np.random.default_rng(5).random(PEOPLE) < 1 - (1 - chance) ** 3
    judged = (view.scores.band < 4) & (view.scores.n > 0)
    last = last_engaged(view.columns, build.NOW).astype(np.float64)
    ours = auc(view.scores.score[judged], truth[judged])
    recency = auc(last[judged] + np.arange(int(judged.sum())) * 1e-6, truth[judged])
    folklore = auc(
        (last[judged] > build.NOW - 90 * DAY) + np.random.default_rng(1).random(int(judged.sum())) * 1e-6, truth[judged]
    )
    assert ours > recency > folklore and ours > 0.8, (ours, recency, folklore)
    means = [float((1 - (1 - chance) ** 3)[view.scores.band == b].mean()) for b in range(4)]
    assert means == sorted(means, reverse=True), dict(zip(BANDS, means, strict=False))


def test_dns_serves_follows_reloads_and_takes_updates(tmp_path: Path) -> None:
    zone = tmp_path / "q.example.zone"
    head = "$TTL 60\n@ IN SOA ns.q.example. h.q.example. 1 60 60 60 60\n@ IN NS ns\nns IN A 127.0.0.1\n"
    zone.write_text(head + 'a IN CNAME ns\nt IN TXT "one" "two"\nm IN MX 20 b\nm IN MX 10 a\n')
    server = DnsServer(tmp_path)
    where = f"127.0.0.1:{server.port}"
    try:

        def ask(name: str, kind: str) -> tuple[str, tuple[str, ...]]:
            found = Resolver(where).ask(Question(name, kind))
            return found.status, found.values

        assert ask("a.q.example", "A") == ("found", ("127.0.0.1",)), "an alias is followed"
        assert ask("t.q.example", "TXT") == ("found", ("onetwo",)), "strings are joined"
        assert ask("m.q.example", "MX") == ("found", ("a.q.example", "b.q.example")), "by preference"
        assert ask("t.q.example", "A") == ask("nobody.q.example", "A") == ask("x.external", "A") == ("none", ())
        long = "v=" + "x" * 1800
        publish(
            where,
            [
                f'big.q.example. 60 IN TXT "{long[:200]}" "{long[200:]}"'.replace(
                    long[200:], '" "'.join(long[i : i + 200] for i in range(200, len(long), 200))
                )
            ],
        )
        assert ask("big.q.example", "TXT") == ("found", (long,)), "over TCP when it is too long for UDP"
        assert "big" in zone.read_text(), "an update is written to the zone file"
        zone.write_text(head + 't IN TXT "new"\n')
        assert ask("t.q.example", "TXT") == ("found", ("new",)), "a changed file is read again"
        zone.write_text("broken (")
        assert ask("t.q.example", "TXT")[0] != "found"
    finally:
        server.close()
    assert Resolver("127.0.0.1:1")._look(Question("q.example", "A")).status == "unknown", "no answer is not a no"
