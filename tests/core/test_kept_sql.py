"""The SQL of every condition and question, as it was when it was last held against the people it finds
(tests/services/test_warehouse.py does that on a database). MEADOW_KEEP=1 writes it anew."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import product

from openmeadow.core.engagement.bands import BANDS, Cadence, Limits
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.rules.parser import parse
from openmeadow.core.warehouse import replay_sql
from openmeadow.core.warehouse.moment import Moment
from openmeadow.core.warehouse.questions import Question, ask
from openmeadow.core.warehouse.rule_sql import RuleSql
from tests.conftest import NOW
from tests.core.test_kept import Lines, in_lines, kept

BOUNDS = ("at least 0", "at least 2", "at most 2", "more than 2", "fewer than 2")
SPANS = ("", " in 30 days")
MOMENT = Moment(NOW, Cadence(7, 180), Limits())


class KnownNames:
    """Names as they are kept: in capitals, so that it shows which were looked up."""

    def exact(self, kind: str, name: str) -> str:
        return f"{kind} {name.upper()}"

    def message_ids(self, name: str) -> list[int]:
        return [] if name == "away" else [3, 4]

    def segment(self, name: str) -> Rule:
        return parse("rejoined or never engaged")

    def snapshot_id(self, name: str, day: str) -> int:
        return int(day.replace("-", ""))

    def step_key(self, sequence: str, step: str) -> int:
        return len(step)

    def coming_days(self, days: float) -> Sequence[str]:
        return [f"03-{12 + i}" for i in reversed(range(int(days) + 1))]


def rules() -> list[str]:
    streams = ("opened", "opened by anyone", "clicked", "received", "engaged", "replied", "booked")
    counted = [f"{s} {b}{span}" for s, b, span in product(streams, BOUNDS, SPANS)]
    counted += [f'{s} at least 2 of "{m}" in 30 days' for s, m in product(("opened", "received"), ("Letter", "away"))]
    counted += [
        f"{what} {b}{row}" for what, row in (("ignored", " in a row"), ("soft bounced", " in a row")) for b in BOUNDS
    ]
    counted += [f"booked worth {b}" for b in BOUNDS] + [f"score {b}" for b in BOUNDS] + ["likely active at least 40%"]
    sides = [f"{what} {side} than 9 days ago" for what in ("last engaged", "joined") for side in ("more", "less")]
    sides += [f'consent to "News" given {side} than 9 days ago' for side in ("more", "less")]
    sides += [f'finished sequence "Welcome" {side} than 9 days ago' for side in ("more", "less")]
    alone = [
        "never engaged",
        "rejoined",
        "suppressed",
        'suppressed for "Hard bounce"',
        'ignored "Letter"',
        'ignored "away"',
    ]
    alone += ["not engaged in 30 days", "engaged within 2 days of joining", 'permitted for "News"', 'in list "Foyer"']
    alone += ['has label "Patron"', 'in segment "Readers"', 'in segment "Readers" as frozen on 2026-02-03']
    alone += ['in sequence "Welcome"', 'in sequence "Welcome" at "wait 2"', 'finished sequence "Welcome"']
    alone += [
        "band is Strong or Steady",
        f"band is {BANDS[-1]}",
        "address is deliverable or risky",
        "address is not checked",
    ]
    alone += [f'consent to "News" is {s}' for s in ("given", "withdrawn", "pending", "none")]
    alone += ['consent to "News" from source "Desk Ü"', 'language is "PT"', 'country is "pt"', 'source is "form"']
    alone += ['provider is "postern"']
    of_field = ["is empty", 'is "SALTMERE"', 'is not "Saltmere"', 'contains "LT"', 'is one of ("kelpford", "Übersee")']
    of_field += ["is before 2026-06-01", "is after 2025-01-01", "falls within 3 days", *(f"is {b}" for b in BOUNDS)]
    alone += [f'field "town" {test}' for test in of_field]
    joined = ["rejoined and never engaged", "rejoined or (suppressed and not (suppressed))"]
    joined += ["(opened at least 2 and opened at least 2) or clicked at least 1", "band is Strong and score at least 20"]
    return [*counted, *sides, *alone, *joined]


def whole() -> Iterator[tuple[str, str]]:
    rule = parse('rejoined and has label "patron"')
    for question in Question:
        yield question.value, ask(question, MOMENT, KnownNames(), rule).sql("duckdb", pretty=True)
    yield "spark", ask(Question.MAP, MOMENT, KnownNames(), rule).sql("spark", pretty=True)
    chosen = RuleSql(MOMENT, KnownNames()).select(rule, ["person"])
    cut_off = replay_sql.CutOff(30, 2, NOW - 90 * DAY, NOW)
    yield "replay", replay_sql.replay(chosen, cut_off).sql("duckdb", pretty=True)
    for way, machine_only in product(("not engaged", "opened, not clicked"), (False, True)):
        due = replay_sql.Resend([3, 4], "News", way, machine_only, 2)
        yield way, replay_sql.resend(RuleSql(MOMENT, KnownNames()).select(rule), due, NOW).sql("duckdb", pretty=True)


def conditions() -> Lines:
    """The conditions alone; what everybody's standing is made of is in the whole statements."""
    for text in rules():
        made = RuleSql(MOMENT, KnownNames())
        sql = made.condition(parse(text)).sql("duckdb")
        standing = "standing" in made.joined
        tables = [] if standing else [f"{name} = {query.sql('duckdb')}" for name, query in made.tables.items()]
        yield text, sql, made.joined, tables
    for text in ("rejoined", "opened at least 2", 'field "town" contains "LT"'):
        yield text, [RuleSql(MOMENT, KnownNames()).select(parse(text)).sql(d) for d in ("duckdb", "spark")]


def test_the_sql_of_every_condition_is_the_one_that_was_held_against_its_people() -> None:
    kept("sql_of_conditions", in_lines(conditions()))


def test_whole_statements_are_the_ones_that_were_held_against_their_people() -> None:
    kept("sql_whole", "".join(f"-- {what}\n{sql}\n\n" for what, sql in whole()))
