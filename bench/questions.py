"""Ten rules of growing difficulty, the map and the replay, by our columns and by DuckDB, at three sizes."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from bench.peers import Duck, frames
from bench.timing import in_turn
from bench.world import NOW, make
from openmeadow.core.arrays import FAR, NEVER, Mask
from openmeadow.core.columns import Troubles
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.replay import SHAPE, cells, replay
from openmeadow.core.engagement.score import Scores, score
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.conditions import View
from openmeadow.core.rules.parser import parse

SINCE = NOW - 365 * DAY


def _acted(at_least: int, days: int, stream: str) -> str:
    """Who acted on so many messages: over the stream that is arranged as ours is, without telling messages apart anew."""
    since = NOW - days * DAY
    return (
        f'(SELECT person FROM {stream} WHERE day >= {since // DAY} AND "at" > {since} AND "at" <= {NOW} '
        f"AND before <= {since} GROUP BY person HAVING count(*) >= {at_least})"
    )


def _got(at_least: int, days: int) -> str:
    since = NOW - days * DAY
    return (
        f'(SELECT person FROM received WHERE day >= {since // DAY} AND "at" > {since} AND "at" <= {NOW} AND before > {NOW} '
        f"GROUP BY person HAVING count(*) >= {at_least})"
    )


_LEFT = (
    f"(SELECT person FROM rows WHERE message = 3 AND first_at <= {NOW} AND failed_at > {NOW} "
    f"AND opened_at > {NOW} AND reacted_at > {NOW})"
)
_QUIET = f"last_engaged <= {NOW - 150 * DAY}"
# rule, and the WHERE over the table `people` (person, joined_at, last_engaged, ignored, score, band)
RULES = (
    ("joined more than 60 days ago", f"joined_at < {NOW - 60 * DAY}"),
    ("not engaged in 150 days and ignored at least 6 in a row", f"{_QUIET} AND ignored >= 6"),
    ("band is Strong or Steady and score at least 20", "band IN (0, 1) AND score >= 20"),
    ("clicked at least 1 in 90 days", f"person IN {_acted(1, 90, 'clicked')}"),
    ("received at least 6 in 60 days", f"person IN {_got(6, 60)}"),
    ("opened at least 4 in 120 days", f"person IN {_acted(4, 120, 'opened')}"),
    ('ignored "3" and opened at least 1 in 60 days', f"person IN {_LEFT} AND person IN {_acted(1, 60, 'opened')}"),
    (
        "opened at least 4 in 120 days and joined more than 60 days ago",
        f"person IN {_acted(4, 120, 'opened')} AND joined_at < {NOW - 60 * DAY}",
    ),
    (
        "opened by anyone at least 8 in 365 days and not (opened at least 1 in 180 days)",
        f"person IN {_acted(8, 365, 'opened_by_anyone')} AND person NOT IN {_acted(1, 180, 'opened')}",
    ),
    (
        "(clicked at least 2 in 365 days or opened at least 10 in 365 days) and ignored at most 3 in a row "
        "and received at least 10 in 120 days",
        f"(person IN {_acted(2, 365, 'clicked')} OR person IN {_acted(10, 365, 'opened')}) AND ignored <= 3 "
        f"AND person IN {_got(10, 120)}",
    ),
)
REPLAY = f"""
WITH a AS (SELECT person, "at" FROM acts WHERE "by" <> 1),
placed AS (SELECT r.*, a."at" AS latest FROM rows r ASOF LEFT JOIN a ON r.person = a.person AND r.first_at > a."at"),
counted AS (SELECT *, coalesce(sum((failed_at >= {FAR})::INT) OVER (PARTITION BY person, latest ORDER BY first_at
  ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING), 0) AS ignored FROM placed)
SELECT CASE WHEN latest IS NULL THEN -1 ELSE (first_at - latest) // 86400 END AS days, least(ignored, 21) AS lefts,
  count(*) AS messages, count(*) FILTER (WHERE opened_at <= {NOW} OR clicked_at <= {NOW}) AS opens,
  count(*) FILTER (WHERE clicked_at <= {NOW}) AS clicks
FROM counted WHERE first_at > {SINCE} AND first_at <= {NOW} GROUP BY ALL
"""
MAP = f"""
SELECT CASE WHEN last_engaged < 0 THEN -1 ELSE ({NOW} - last_engaged) // 86400 END AS days, least(ignored, 21) AS lefts,
  band, count(*) AS people FROM people GROUP BY ALL
"""


class Nothing:
    """Facts that the rules asked here need: a message's name is its number."""

    def message_ids(self, name: str) -> list[int]:
        return [int(name)]


def _grid(s: Scores, alive: Mask) -> Any:
    cell = cells(s.now - s.last_engaged, s.last_engaged == NEVER, s.ignored)
    return np.bincount((cell * len(BANDS) + s.band)[alive], minlength=SHAPE[0] * SHAPE[1] * len(BANDS))


def _on_grid(days: Any, lefts: Any, counts: Any) -> Any:
    cell = cells(days.astype(np.int64) * DAY, days < 0, lefts.astype(np.int64))
    return np.bincount(cell, counts, minlength=SHAPE[0] * SHAPE[1])


def one_size(people: int, deliveries: int) -> dict[str, tuple[float, float]]:
    """Seconds of ours and of DuckDB by question; the answers are checked to be the same."""
    c = make(people, deliveries)
    scores = score(c, NOW)
    streams, begun = Streams(c), time.perf_counter()
    for name in Streams.NAMES:
        streams.stream(name)
    arranging = time.perf_counter() - begun
    alive = np.ones(people, bool)
    view = View(c, streams, lambda: scores, Nothing(), alive, NOW)  # type: ignore[arg-type]
    assert view.scores is scores
    data = frames(c)
    data["people"] = data["people"].with_columns(
        last_engaged=scores.last_engaged, ignored=scores.ignored, score=scores.score, band=scores.band
    )
    duck = Duck(data)
    # ours once for the columns of a workspace, kept on disk with them; new events are put in without arranging all anew
    found: dict[str, tuple[float, float]] = {"arranging everything, once": (arranging, duck.arrange(streams))}

    def contest(name: str, ours: Callable[[], Any], theirs: Callable[[], Any], rounds: int = 5) -> None:
        told = in_turn({"ours": ours, "theirs": theirs}, rounds)
        found[name] = (told["ours"][0], told["theirs"][0])

    for text, where in RULES:
        rule = parse(text)
        sql = f"SELECT count(*) FROM people WHERE {where}"
        assert int(rule.mask(view).sum()) == duck.db.execute(sql).fetchall()[0][0], text
        contest(
            text,
            lambda r=rule: (view.known.clear(), int(r.mask(view).sum())),
            lambda q=sql: duck.db.execute(q).fetchall(),
        )
    contest("the map", lambda: _grid(scores, alive), lambda: duck.db.execute(MAP).fetchnumpy())
    none = Troubles(*(np.zeros(0, t) for t in (np.int64, np.int32, np.int32, np.int8)))
    ours, theirs = replay(c, none, SINCE, NOW), duck.db.execute(REPLAY).fetchnumpy()
    for measure in ("messages", "opens", "clicks"):
        assert (ours.sums[measure].ravel() == _on_grid(theirs["days"], theirs["lefts"], theirs[measure])).all(), measure
    contest(
        "the replay of 12 months", lambda: replay(c, none, SINCE, NOW), lambda: duck.db.execute(REPLAY).fetchnumpy(), 1
    )
    return found


def main(sizes: tuple[int, ...], each: int = 20) -> None:
    """Print the table: milliseconds of ours and of DuckDB, and the growth of ours per person."""
    told = {n: one_size(n, n * each) for n in sizes}
    print(
        f"\nRules, map and replay: ours, DuckDB (and its multiple of ours), at {', '.join(f'{n:,}' for n in sizes)} people"
    )
    for name in told[sizes[0]]:
        parts = [
            f"{a * 1000:7.1f} {b * 1000:8.1f} ({b / max(a, 1e-9):5.1f} x)" for a, b in (told[n][name] for n in sizes)
        ]
        growth = (told[sizes[-1]][name][0] / sizes[-1]) / (told[sizes[0]][name][0] / sizes[0])
        print(f"  {name[:68]:<70}{'  '.join(parts)}   per person {growth:.2f} x")
