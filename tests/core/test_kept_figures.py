"""Every figure that core works out for one made history, as it was when somebody last looked at it: the tests beside each
module say that they are right, this one that none of them moves unseen. MEADOW_KEEP=1 writes them anew."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import fields, is_dataclass, replace
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from openmeadow.core import columns as columns_module
from openmeadow.core.arrays import FAR, NEVER
from openmeadow.core.columns import People, Trouble, Troubles, build
from openmeadow.core.consent.eligibility import next_allowed
from openmeadow.core.delivery import batches, hours, schedule, smtp_refusals, time_zones
from openmeadow.core.delivery.schedule import Windows
from openmeadow.core.delivery.smtp_refusals import RefusalRun, Stage, Whose
from openmeadow.core.engagement import bands, bot_detection, expected, fitting, placement, replay, score_check
from openmeadow.core.engagement import map as coordinates
from openmeadow.core.engagement.chance import AS_IT_IS, Adjustment, ChanceModel, with_one_more
from openmeadow.core.engagement.chance_fit import fit, fit_source
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.engagement.explanation import explain
from openmeadow.core.engagement.score import Basis, Scores, score
from openmeadow.core.events import Kind
from openmeadow.core.message import subjects
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences import state_machine
from openmeadow.core.sequences.definition import Definition, Step, moved
from openmeadow.core.sequences.simulation import walk
from openmeadow.core.statistics import newcombe, wilson
from tests.core.test_kept import Lines, kept
from tests.making import LINKS, NOW, E, everybody, raw

PEOPLE, WEEKS = 150, 50


def rounded(value: object) -> object:
    """Six digits of every number, so that it is the same on every machine; arrays and dataclasses as lists."""
    if isinstance(value, float | np.floating):
        return float(f"{float(value):.6g}")
    if isinstance(value, np.ndarray):
        return [rounded(v) for v in value.tolist()]
    if isinstance(value, tuple | list):
        return [rounded(v) for v in value]
    if isinstance(value, dict):
        return {k: rounded(v) for k, v in value.items()}
    if is_dataclass(value) and not isinstance(value, type):
        return [(f.name, rounded(getattr(value, f.name))) for f in fields(value)]
    return value


def one_year(lot: random.Random) -> tuple[People, list[E], Troubles]:
    """A mailing a week, to people who engage more or less and go at some time; machines, masked readers, refusals,
    bookings, complaints, and some who rejoined."""
    told: list[E] = []
    wrong: list[tuple[int, int, int, int]] = []
    for p in range(PEOPLE):
        rate, gone = lot.random() ** 1.5, lot.randrange(5, 2 * WEEKS)
        by = lot.choices(("person", "machine", "blind"), (8, 1, 2))[0]
        for w in range(WEEKS):
            if lot.random() < 0.15:
                continue
            ago = (WEEKS - w) * 7 * DAY - lot.randrange(3) * HOUR
            told.append(E(p, Kind.SENT, ago, w + 1))
            if lot.random() < 0.03:
                told.append(E(p, Kind.BOUNCED, ago - 60, w + 1))
                wrong.append((NOW - ago + 60, p, w + 1, int(lot.choice((Trouble.HARD, Trouble.SOFT)))))
            elif w < gone and lot.random() < rate * (1.2 - w / WEEKS):
                after = int(lot.expovariate(1 / (8 * HOUR))) + 30
                told.append(E(p, Kind.OPENED, ago - after, w + 1, by))
                if lot.random() < 0.3:
                    told.append(E(p, Kind.CLICKED, ago - after - 20, w + 1, "person", lot.randrange(1, 4)))
                    if lot.random() < 0.3:
                        told.append(E(p, Kind.BOOKED, ago - after - 600, w + 1, value=lot.choice((30.0, 55.5))))
            elif by != "person":
                told.append(E(p, Kind.OPENED, ago - 40, w + 1, by))
            elif lot.random() < 0.01:
                wrong.append((NOW - ago + DAY, p, w + 1, int(lot.choice((Trouble.COMPLAINED, Trouble.UNSUBSCRIBED)))))
    since = np.full(PEOPLE, NEVER, np.int64)
    since[:12] = NOW - np.arange(1, 13) * 20 * DAY
    people = People(
        np.arange(1, PEOPLE + 1), np.full(PEOPLE, NOW - 800 * DAY, np.int64), since, np.arange(PEOPLE, dtype=np.int32) % 3
    )
    at, person, message, what = zip(*wrong, strict=True)
    troubles = Troubles(
        np.array(at, np.int64), np.array(person, np.int32), np.array(message, np.int32), np.array(what, np.int8)
    )
    return people, told, troubles


EVERYBODY, TOLD, TROUBLES = one_year(random.Random(11))
COLUMNS = build(EVERYBODY, raw(TOLD), LINKS.repeat(10))
SLOPED = Adjustment(0.4, 0.7)
PACE = bands.cadence(COLUMNS, NOW)
MODELS = ChanceModels(
    reading=ChanceModel(1.1, 2.3, 0.8, 9.0),
    clicking=ChanceModel(0.5, 4.0, 1.0, 30.0),
    sources={2: ChanceModel(2.0, 1.0, 0.9, 12.0)},
)


def walks() -> Lines:
    lot = random.Random(9)
    kinds = ("message", "resend", "condition", "wait", "label", "list", "suppress", "end")
    for n in range(60):
        steps = tuple(
            Step(
                key=i + 1,
                kind=lot.choice(kinds),
                path=lot.choice((1, 1, 2)),
                of=lot.randrange(0, i + 1),
                off=lot.random() < 0.15,
                wait=lot.choice((0, HOUR, DAY, 9 * DAY)),
                yes=lot.choice(("continue", "end", "follow-up path", "4")),
                no=lot.choice(("continue", "end", "follow-up path")),
                hour=lot.choice((None, None, 9)),
                weekdays=lot.choice(((), (), (0, 3))),
                meets=lot.random() < 0.3,
            )
            for i in range(lot.randrange(1, 7))
        )
        made = Definition(steps=steps, hours=lot.choice(((0, 24), (8, 20))))
        for answers in (True, False):
            seen = walk(made, NOW, lambda step, a=answers: a, lambda _: ZoneInfo("Europe/Lisbon"))
            yield n, [(s.at - NOW, s.step, s.what, s.said) for s in seen]
        yield sorted(state_machine.days(made).items())
        if len(steps) > 1:
            yield [s.key for s in moved(made, 1, len(steps) - 1).steps]
    yield [state_machine.spread([NOW - n * HOUR for n in range(9)], NOW, a_day) for a_day in (0, 2, 5)]
    taken = [NOW - h * HOUR for h in (1, 20, 30, 60, 100, 160, 169)]
    yield [next_allowed(taken[:n], NOW, *most) for n in range(8) for most in ((1, 3), (2, 9), (9, 2))]


def who_it_was() -> Lines:
    """Opens and clicks at the edges of what makes them a machine's."""
    lot, told = random.Random(3), []
    for p in range(60):
        told += [E(p, kind, 9 * DAY - p % 7, 1) for kind in lot.choice(((Kind.SENT,), (Kind.SENT, Kind.DELIVERED)))]
        for _ in range(lot.randrange(1, 9)):
            ago = 9 * DAY - lot.choice((0, 1, 2, 3, 4, 9, 10, 11, 12, 20, 21, 60))
            by = lot.choice(("person", "person", "machine", "blind", "trap"))
            told.append(E(p, lot.choice((Kind.OPENED, Kind.CLICKED, Kind.CLICKED)), ago, 1, by, lot.randrange(0, 4)))
    yield bot_detection.reasons(raw(told), LINKS), bot_detection.reasons(raw(told[:1]), LINKS)
    many = build(everybody(fitting.MOST_PEOPLE + 40), raw([]), LINKS)
    found = fitting.sample(many, np.ones(len(many.people), bool))
    yield len(found), np.setdiff1d(np.arange(len(many.people)), found)


def scored(now: int = NOW, models: ChanceModels = MODELS) -> Scores:
    return score(COLUMNS, now, Basis(PACE, models))


def scores() -> Lines:
    yield PACE, bands.engagement_delays(COLUMNS, NOW)[:40], bands.settles_within(bands.engagement_delays(COLUMNS, NOW))
    for now in (NOW, NOW - 100 * DAY):
        found = scored(now)
        yield [getattr(found, f.name) for f in fields(found) if f.name not in ("basis", "now")]
        yield found.score, found.hidden


def explanations() -> Lines:
    found = scored()
    for person in range(0, PEOPLE, 5):
        told = [explain(COLUMNS, person, found, hidden=hidden) for hidden in (False, True)]
        for e in told:
            yield replace(e, steps=[]), [(s.message, s.what, s.counts, s.chance) for s in e.steps[-14:]]
    for x, t, n in ((0, 0, 0), (1, 1, 3), (40, 60, 60), (40, 55, 60)):
        for engaged in (True, False):
            yield with_one_more(x, t, n, engaged=engaged), with_one_more(x, t, n, engaged=engaged, oldest_engaged=True)


def cut_offs() -> Lines:
    last, left = replay.standing(COLUMNS)
    yield last[::9], left[::3]
    found = replay.replay(COLUMNS, TROUBLES, NOW - 200 * DAY, NOW)
    for sums in (found.sums, found.for_good):
        yield [(name, s.sum(axis=0), s.sum(axis=1)[::4]) for name, s in sums.items()]
    yield [found.without(days, least) for days in (0, 30, 90, 365) for least in (0, 1, 4, 21)]
    for columns in ((0, 0), (0, 7), (1, 3), (7, 7), (2, 6), (6, 7), (0, 6)):
        for rows in ((0, 0), (0, 5), (1, 2), (5, 5)):
            yield columns, rows, coordinates.rule_of(coordinates.DAY_EDGES, coordinates.LEFT_EDGES, columns, rows)


def checks_of_the_score() -> Lines:
    found = [
        score_check.answers(COLUMNS, m, NOW, Basis(PACE, MODELS))
        for m in score_check.mailings(COLUMNS, NOW, PACE.settled)
    ]
    yield [(a.mailing, len(a.who), a.engaged.sum(), a.answered.sum(), a.seen.sum(), a.hidden.sum()) for a in found]
    yield score_check.check(found), score_check.check([])
    yield score_check.mailings(COLUMNS, NOW - 9 * DAY, PACE.settled, 3)
    for most in (0.3, 1.0):
        lot = np.random.default_rng(5)
        x = lot.normal(0, 2, 900)
        yield fitting.logistic(x, lot.random(900) < most / (1 + np.exp(1 - 0.5 * x)))
    alive = np.ones(PEOPLE, bool)
    yield fitting.fit_all(COLUMNS, NOW, alive, PACE).reading
    low = ChanceModels(reading=ChanceModel(0.4, 6.0, 0.8, 9.0), settled=DAY)
    yield (
        fitting.sample(COLUMNS, alive)[:5],
        [fitting._adjustment(COLUMNS, NOW, PACE, m) for m in (MODELS, low, low.adjusted(SLOPED))],
    )
    yield [MODELS.adjusted(SLOPED).model_of(s, hidden=hidden) for s in (0, 2) for hidden in (False, True)]
    now = scored()
    many = [c.repeat(40) for c in (now.x, now.t, now.n)]
    yield [f"{v:.3g}" for v in fit(*many).parameters], fit(*many).messages
    own = fit_source(MODELS.reading, *many)
    yield own and [f"{v:.3g}" for v in own.parameters]
    heard = []
    for n in range(7):
        odds = lot.normal(-1, 1, 4000)
        heard.append(fitting._Heard(NOW - (7 - n) * 30 * DAY, odds, lot.random(4000) < 1 / (1 + np.exp(-odds + n / 4))))
    for some in (heard, heard[:4], [heard[i] for i in (3, 0, 6, 1, 5)]):
        yield fitting._with_trend(some, AS_IT_IS, NOW), [fitting._offset(h.odds, h.yes) for h in some]


def whether_it_is_spam() -> Lines:
    lot = np.random.default_rng(2)
    delays = bands.engagement_delays(COLUMNS, NOW)
    for curve in (expected.Curve(), expected.Curve.of(delays), expected.Curve.of(delays[:3])):
        yield curve.come(np.array([-5, 0, 600, HOUR, DAY, 9 * DAY])), [curve.within(s) for s in (0.1, 0.5, 0.95)]
    mailed = [expected.Mailed(int(lot.integers(60, 140)), 100.0, 60.0) for _ in range(9)]
    levels = [expected.usual_level(mailed[:n]) for n in (0, 1, 2, 5, 9)]
    yield levels
    chance = lot.random(300)
    yield [expected.forecast(chance, level) for level in levels], expected.forecast(chance[:0], levels[0])
    yield [expected.student(f, z) for f in (1, 2, 5, 30, 1000) for z in (1.96, 2.58)]
    for factor in (1.0, 0.5, 0.2):
        groups = {
            p: placement.Group(chance / p, lot.random(300) < chance / p * (factor if p == 1 else 1.1)) for p in (1, 2, 3)
        }
        for level in (levels[0], levels[4]):
            found = [placement.evidence(groups, p, level, 0.1) for p in groups]
            yield [replace(f, likelihood=min(f.likelihood, 1e9)) for f in found], [f.is_spam for f in found]
        yield [g.noise(0.9) for g in groups.values()], placement.ratio_of_others({1: groups[1]}, 1, levels[4])
    yield [placement.dispersion(lot.normal(0, s, 40), np.full(40, 0.01)) for s in (0.05, 0.3, 1.5)]
    yield placement.dispersion(np.zeros(2), np.ones(2))


def batches_and_zones() -> Lines:
    names = ("Europe/Lisbon", "Asia/Tokyo", "America/Denver", "Australia/Lord_Howe")
    zones = [ZoneInfo(n) for n in names]
    lot = np.random.default_rng(3)
    who, band, value = np.arange(1, 61), lot.integers(0, 4, 60).astype(np.int8), lot.random(60) * 90
    zone = lot.integers(0, 4, 60).astype(np.int32)
    hour = lot.choice([-1, 8, 20], 60).astype(np.int8)
    provider = lot.integers(1, 4, 60)
    plain = batches.BatchPlan(5, NOW, 0.1, 4, 6 * HOUR)
    for plan in (
        plain,
        replace(plain, pilot_share=0.0, order="at random"),
        replace(plain, order="by time zone", first_gap=DAY),
        replace(plain, sizes=(10, 20, 5)),
    ):
        ahead = time_zones.offsets(zones, NOW)[zone]
        placed = batches.assign(plan, who, band, value, ahead)
        yield placed
        for windows in (Windows(), Windows((9, 17), frozenset({0, 1, 2, 3}))):
            drawn = schedule.schedule(
                plan, who, band, value, provider, windows, zones[0], {1: 3}, ahead=ahead, moved_to={2: NOW + DAY}
            )
            yield drawn, schedule.in_time(drawn, NOW + 2 * DAY)
            apart = time_zones.spread(drawn, NOW, zones[0], zones, zone, hour, windows)
            yield apart
            late = schedule.in_time(drawn, NOW + 12 * HOUR)
            yield time_zones.spread(late, NOW, zones[0], zones, zone, hour, windows)
            yield time_zones.within_caps(apart, provider, {2: 4, 3: 0}, zones[0], zones, zone, windows, 6 * HOUR)
            yield schedule.by_hand(drawn.moments, {1: NOW + 60, 3: NOW + 9 * DAY, 99: 1}, plan, windows, zones[0])
            yield schedule.slots(plan, 5, windows, zones[2])
            yield [
                schedule.after_wait(NOW, wait, windows, zones[3], no_later_than=NOW + 9 * DAY, by_day=by_day)
                for wait in (0, HOUR, DAY, 5 * DAY + 60, 30 * DAY)
                for by_day in (False, True)
            ]
    yield [batches.variants(4, who, held, n) for held in (0.0, 0.2) for n in (0, 1, 3)]
    counts = lot.integers(0, 90, 24)
    yield hours.best(counts), hours.best(counts * 0), hours.own_hours(who.repeat(8) - 1, lot.integers(0, 24, 480), 61)
    yield [wilson(k, n) for k, n in ((0, 9), (3, 9), (9, 9))], newcombe(3, 9, 40, 90)


def refusals() -> Lines:
    for stage in Stage:
        for code in ("421", "451", "530", "535", "550", "554"):
            for words in (
                "no",
                "5.7.8 sign in",
                "4.7.1 Relay access denied",
                "5.1.1 sender rejected",
                "5.7.1 policy, sender denied",
            ):
                yield smtp_refusals.whose(stage, code, words), smtp_refusals.enhanced_code(code, words)
    for about, code in ((Whose.POLICY, "550"), (Whose.POLICY, "451"), (Whose.RECIPIENT, "550")):
        run = RefusalRun()
        for n in range(50):
            if n == 30:
                run.resume()
            if n == 41:
                run.accepted()
            words = f"<a{n}@x.example> refused" if n % 26 else "busy"
            yield run.refused(code, words, about, "one" if n < 8 else n % 3, (n, 1)), run.words, run.concluded
    past = [
        subjects.Mailed(
            f"{'Seats?' if n % 2 else 'Seats'} {n if n % 3 else ''}{'!' if n % 5 else ''}", 0.7 + (n * 7 % 11) / 20
        )
        for n in range(24)
    ]
    for subject in ("Is it so? 7 seats!", "{{ first_name }}, " + "long " * 9, "Plain"):
        found = subjects.compared(subject, [*past, subjects.Mailed("Nothing?", 0.0)])
        yield found, [f.shown for f in found], subjects.compared(subject, past[:9])
    yield FAR > NOW


CASES: tuple[Callable[[], Lines], ...] = (
    *(
        walks,
        who_it_was,
        scores,
        explanations,
        cut_offs,
        checks_of_the_score,
        whether_it_is_spam,
        batches_and_zones,
        refusals,
    ),
)


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.__name__)
def test_every_figure_is_as_it_was_looked_at(case: Callable[[], Lines]) -> None:
    kept(case.__name__, "\n".join(str(rounded(line)) for line in case()) + "\n")


def test_columns_built_run_by_run_are_those_built_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    lot = random.Random(5)
    told = raw(lot.sample(TOLD, len(TOLD)))
    for run in (1, 400, len(TOLD) - 1):
        monkeypatch.setattr(columns_module, "RUN", run)
        found = build(EVERYBODY, told, LINKS.repeat(10))
        assert (found.start == COLUMNS.start).all()
        for a, b in ((found.rows, COLUMNS.rows), (found.acts, COLUMNS.acts)):
            assert all(np.array_equal(getattr(a, f.name), getattr(b, f.name)) for f in fields(a)), run
