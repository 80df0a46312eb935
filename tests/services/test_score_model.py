"""The model of the score in a workspace: fitted when it is due, kept, used by every view, and held against what came."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.engagement.bands import BANDS, INACTIVE, STRONG
from openmeadow.core.engagement.chance_fit import DEFAULT
from openmeadow.core.errors import CannotOpen, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY, HOUR
from openmeadow.services import settings as settings_service
from openmeadow.services.campaigns import benchmarks, campaigns, expected, results, schedule
from openmeadow.services.health import provider_health
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import profile, score_export, score_model
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import chance_models, event_hours, events
from openmeadow.worker import score_fit
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, mailing, on_time

PEOPLE, WEEKS = 600, 20


def history(workspace: Workspace, people: int = PEOPLE, weeks: int = WEEKS, seed: int = 2) -> None:
    """Weekly mail to people of whom each has a chance of their own, the first of them the most engaged."""
    r = np.random.default_rng(seed)
    rate = np.sort(r.beta(0.8, 1.6, people))[::-1]
    rows: list[events.Row] = []
    with workspace.store.atomic() as db:
        names = events.Names(db)
        message = names.messages([f"Letter {w}" for w in range(weeks)])
        agent = names.agents(["Reader/1"], ["198.51.100.7"])[0]
        for w in range(weeks):
            at = NOW - (weeks - w) * 7 * DAY
            engages = np.flatnonzero(r.random(people) < rate)
            delay = np.minimum(r.exponential(6 * HOUR, people), 3 * DAY).astype(int) + 60
            rows += [(at, int(Kind.SENT), p + 1, message[w], 0, 0, 0.0, None, None, None) for p in range(people)]
            rows += [
                (at + int(delay[p]), int(Kind.OPENED), int(p) + 1, message[w], 0, agent, 0.0, None, None, None)
                for p in engages
            ]
        events.add(db, rows)


def with_history(m: Mailing) -> Workspace:
    history(m.workspace)
    return m.workspace


def test_it_is_fitted_when_it_is_due_and_stands_until_then(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        w = m.workspace
        assert w.models().reading == DEFAULT and score_model.is_due(w)
        assert score_model.refit_if_due(w) and not score_model.is_due(w)
        assert w.models().reading == DEFAULT, "nothing has been sent yet"
        history(w)
        assert score_model.is_due(w), "far more than two of a hundred deliveries are new"
        before = w.view().scores
        assert before.basis.models.reading == DEFAULT, "a view never fits"
        score_fit.tend(w)
        fitted = w.models()
        assert fitted.reading.is_own and fitted.reading.people == PEOPLE and fitted.fitted_at == NOW
        assert fitted.settled == chance_models.last_fit(w.store.read()).settled < 3 * DAY  # type: ignore[union-attr]
        other = Workspace(folder)
        assert other.models() == fitted, "another process judges alike"
        assert np.array_equal(other.view().scores.chance, w.view().scores.chance)
        other.close()
        with w.store.atomic() as db:
            row = (NOW - HOUR, int(Kind.SENT), 1, 1, 0, 0, 0.0, None, None, "one more")
            events.add(db, [row])
        assert not score_model.is_due(w), "one delivery more of 12,000"
        set_clock(w, NOW + DAY)
        assert score_model.is_due(w), "it is a day old, and something is new"


def test_the_score_is_held_against_the_last_mailings(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        w = with_history(m)
        assert score_model.last_check(w) is None
        score_model.tend(w)
        found = score_model.last_check(w)
        assert found is not None and found.mailings == 12 and found.people == 12 * PEOPLE
        assert found.auc is not None and found.auc_recency is not None and found.auc > max(0.75, found.auc_recency)
        assert found.calibration_error is not None and found.calibration_error < 0.03
        assert [t.expected for t in found.tenths] == sorted(t.expected for t in found.tenths)
        kept = chance_models.mailings(w.store.read())
        assert len(kept) == WEEKS and all(k.people == PEOPLE for k in kept)
        assert sum(k.observed for k in kept[5:]) == pytest.approx(sum(k.expected for k in kept[5:]), rel=0.05)
        usual = expected.level(w, None)
        assert usual.mailings == 20 and 0.9 < usual.level < 1.1
        told = benchmarks.see(w)
        assert all(0.9 < line.ratio < 1.1 for kind in told.kinds for line in kind.lines if line.ratio is not None)
        placed = {p.name: p.placement for p in provider_health.providers(w, w.view())}
        assert all(s.state == "inbox" for seen in placed.values() for s in seen) and len(placed["Postern"]) > 5


def test_a_person_is_told_why_in_counts(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        w = with_history(m)
        score_model.refit(w)
        view = w.view()
        for p in (0, PEOPLE // 2, PEOPLE - 1):
            why = profile.explain(w, SubscriberId(p + 1))
            assert why.chance == pytest.approx(float(view.scores.chance[p])) and why.own_history
            counted = [s for s in why.steps if s.counts]
            assert (why.counted, why.counted_engaged) == (len(counted), sum(s.what == "engaged" for s in counted))
            assert counted[0].chance == pytest.approx(why.chance), "the newest stands first"
            assert why.if_ignored < why.chance < why.if_engaged
            said = profile.in_words(why)
            assert said.startswith(f"engaged with {why.counted_engaged} of the last {why.counted}") and said.endswith(
                f"{100 * why.chance:.0f}"
            )


def test_thresholds_are_settings_and_rules_and_segments_follow_the_chance(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        w = with_history(m)
        score_model.refit(w)
        s = w.view().scores
        strong = int((s.band == STRONG).sum())
        assert ((s.score >= 40) | (s.band != STRONG)).all() and strong == w.count("band is Strong")[0]
        with w.store.atomic() as db:
            event_hours.keep_point(db, NOW - 30 * DAY, 0, [1, 2, 3, 4, 5, 6])
        settings_service.change(w, {"strong_from": 70}, "test")
        assert event_hours.kept_points(w.store.read(), 0) == {}, "month ends follow"
        with pytest.raises(Refused, match="Strong must begin at a higher score"):
            settings_service.change(w, {"steady_from": 70}, "test")
        assert w.setting("steady_from") == 12
        fewer = w.view().scores
        assert 0 < int((fewer.band == STRONG).sum()) == int(((fewer.score >= 70) & (s.band == STRONG)).sum()) < strong
        assert w.count("likely active at least 80%")[0] == int((s.active >= 0.8).sum())
        assert w.count("score at least 30")[0] == int((s.score >= 30).sum())
        segments.save(w, "Keen", "score at least 50", "test")
        keen = next(x for x in segments.every(w) if x.name == "Keen")
        assert keen.chance == pytest.approx(float(s.chance[s.score >= 50].mean()))
        never = (s.last_engaged < 0) & (s.first_delivered > NOW - 90 * DAY)
        assert not (s.band[never] == INACTIVE).any()


def test_everybody_s_score_as_a_file(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        w = with_history(m)
        score_model.refit(w)
        s = w.view().scores
        assert score_export.write(w, tmp_path / "all.csv") == score_export.write(w, tmp_path / "all.ndjson") == PEOPLE
        with (tmp_path / "all.csv").open(encoding="utf-8") as f:
            rows = list(csv.DictReader(f))
        lines = [json.loads(x) for x in (tmp_path / "all.ndjson").read_text().splitlines()]
        assert tuple(rows[0]) == tuple(lines[0]) == score_export.COLUMNS
        for i in (0, 9, PEOPLE - 1):
            assert rows[i]["chance"] == f"{s.chance[i]:.6f}" and lines[i]["active"] == round(float(s.active[i]), 6)
            assert rows[i]["band"] == lines[i]["band"] == BANDS[s.band[i]]
        with pytest.raises(CannotOpen, match="cannot be opened"):
            score_export.write(w, tmp_path / "nowhere" / "x.csv")


def test_a_campaign_says_what_to_expect_and_what_came(folder: Path) -> None:
    """By batch, band and provider before the start; beside what came while it comes in, and when it has."""
    with mailing(folder, PEOPLE) as m:
        w = with_history(m)
        score_model.tend(w)
        campaigns.write(w, m.campaign, {"plan": {"pilot_share": 0.2, "batches": 2, "interval": HOUR, "resend": False}})
        plan = schedule.preview_plan(w, campaigns.row_of(w, m.campaign))
        whole = plan.expected
        assert whole.people == PEOPLE and whole.low < whole.expected < whole.high and whole.mailings == 20
        for parts in ([b.expected for b in plan.batches], plan.expected_by_band, plan.expected_by_provider):
            assert sum(p.people for p in parts) == PEOPLE
            assert sum(p.expected for p in parts) == pytest.approx(whole.expected)
        assert plan.batches[1].expected.expected > plan.batches[2].expected.expected, "the most engaged first"
        campaigns.start(w, m.campaign, "test")
        on_time(m, NOW + 3 * HOUR)
        early = results.results(w, m.campaign).observed
        assert early is not None and early.observed == 0 and not early.complete
        assert early.expected < 0.6 * early.expected_in_all
        message = campaigns.row_of(w, m.campaign).message or 0
        chance = dict(w.store.read().execute("SELECT subscriber, chance FROM deliveries").fetchall())
        r = np.random.default_rng(8)
        engages = [p for p, c in chance.items() if r.random() < (c or 0) / 10_000 * 0.5]
        with w.store.atomic() as db:
            agent = events.Names(db).agents(["Reader/1"], ["198.51.100.7"])[0]
            events.add(
                db, ((NOW + 4 * HOUR, int(Kind.OPENED), p, message, 0, agent, 0.0, None, None, None) for p in engages)
            )
        set_clock(w, NOW + 4 * DAY)
        late = results.results(w, m.campaign)
        assert late.observed is not None and late.observed.complete and late.observed.unusual
        assert late.observed.observed == len(engages) and late.observed.ratio == pytest.approx(0.5, abs=0.12)
        assert sum(b.observed.people for b in late.batches if b.observed) == PEOPLE
