"""What a campaign did: per batch, people and machines apart; the resend against those in the holdout group; why not."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import FAR, I8, I64, NEVER, Mask
from openmeadow.core.columns import MACHINE
from openmeadow.core.delivery.uplift import Lift, VariantCount, in_words, lift
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, CampaignId
from openmeadow.core.moments import HOUR
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import HOLDOUT, OPEN_BATCHES, BatchState, CampaignState, DeliveryState, SendKind
from openmeadow.services import models
from openmeadow.services.campaigns import expected, waits
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.campaigns.figures import MessageFigures, Outcomes, deliveries_of
from openmeadow.services.campaigns.resend import TOO_OFTEN, arms_in
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns.delivery_columns import STATES, DeliveryColumns
from openmeadow.store.campaigns.delivery_records import Batch
from openmeadow.store.campaigns.records import Campaign

HOURS, DAYS_SHOWN = 48, 14
Seen = models.Observed | None


@dataclass(frozen=True)
class _Send:
    """The deliveries of one of a campaign's sends, and of each what its person did; arrays with one entry a delivery."""

    d: DeliveryColumns
    reached: Mask
    delivered: Mask
    opened: Mask
    clicked: Mask
    machine: Mask
    unsure: Mask
    last_act: I64  # by a person; NEVER for none
    last_click: I64
    unsubscribed: I64  # FAR for never, as the next two
    complained: I64
    bounced: I64


def _send(m: MessageFigures, outcomes: Outcomes, d: DeliveryColumns) -> _Send:
    who = d.subscriber
    delivered, opened, clicked, machine = m.among(who, m.delivered, m.opened, m.clicked, m.machine)
    return _Send(
        d=d,
        reached=d.was_sent,
        delivered=delivered,
        opened=opened,
        clicked=clicked,
        machine=machine,
        unsure=m.unsure(who),
        last_act=m.last_act(who),
        last_click=m.last_act(who, Kind.CLICKED),
        unsubscribed=outcomes.at(Kind.UNSUBSCRIBED, who),
        complained=outcomes.at(Kind.COMPLAINED, who),
        bounced=outcomes.at(Kind.BOUNCED, who),
    )


def _places(batches: list[Batch], s: _Send) -> I64:
    """Where each delivery's batch stands among the batches of its send, by their ids; behind them all where it has gone
    meanwhile."""
    return np.searchsorted(np.array(sorted(b.id for b in batches), np.int64), s.d.batch)


def _lines(
    row: Campaign, batches: list[Batch], s: _Send, place: I64, variants: list[str], observed: list[Seen]
) -> list[models.BatchLine]:
    """The batches of one send, and the variants of a resend's batches, with what came of each; of a resend, since it went
    out. ``place`` is where each delivery's batch stands by its id, as in ``observed``."""
    n = len(batches)
    came = _came(s, place, n, first=any(b.kind == SendKind.FIRST for b in batches))
    counted = {name: np.bincount(place[mask], minlength=n) for name, mask in came.items()}
    states, bands = (_counts(place, n, value, of) for value, of in ((s.d.state, len(STATES)), (s.d.band, len(BANDS))))
    of = {batch: i for i, batch in enumerate(sorted(b.id for b in batches))}

    def line(b: Batch) -> models.BatchLine:
        i = of[b.id]
        return models.BatchLine(
            id=b.id,
            due_at=b.due_at,
            people=b.people,
            **{name: int(states[i, STATES.index(state)]) for name, state in _STATES_SHOWN.items()},
            **{name: int(counts[i]) for name, counts in counted.items()},
            n=b.n,
            late=b.late,
            variant=variants[b.variant - 1] if b.variant else "",
            kind=b.kind,
            state=BatchState.PAUSED if row.state == CampaignState.PAUSED and b.state in OPEN_BATCHES else b.state,
            bands=bands[i].tolist(),
            observed=observed[i],
        )

    return [line(b) for b in batches]


def _counts(place: I64, batches: int, value: I8, of: int) -> I64:
    """How many deliveries of each batch have each of so many values; one row a batch."""
    return np.bincount(place * of + value, minlength=batches * of)[: batches * of].reshape(batches, of)


_STATES_SHOWN = {
    "waiting": DeliveryState.QUEUED,
    "deferred": DeliveryState.DEFERRED,
    "failed": DeliveryState.FAILED,
    "unconfirmed": DeliveryState.UNCONFIRMED,
    "passed_over": DeliveryState.SKIPPED,
}


def _came(s: _Send, place: I64, batches: int, *, first: bool) -> dict[str, Mask]:
    """What came of each delivery, of a resend since its batch began to go out; ``place`` is its batch's of so many."""
    on = s.reached
    if first:
        since: I64 = np.array(NEVER)
    else:
        begun, changed = np.full(batches + 1, FAR, np.int64), s.d.changed_at > 0
        np.minimum.at(begun, place[changed], s.d.changed_at[changed])
        since = begun[place]
    return {
        "sent": on,
        "delivered": on & s.delivered,
        "opened": on & (s.opened if first else s.last_act >= since),
        "clicked": on & (s.clicked if first else s.last_click >= since),
        "machine_only": on & s.machine & first,
        "unsure": on & s.unsure & first,
        "unsubscribed": on & (s.unsubscribed < FAR) & (s.unsubscribed >= since),
        "complained": on & (s.complained < FAR) & (s.complained >= since),
        "bounced": on & (s.bounced < FAR),
    }


def _why_not(row: Campaign, first: DeliveryColumns, sent: int) -> list[tuple[str, int]]:
    """From who was selected to who was sent it: the words and the counts, negative for those who fell out."""
    exclusions = [(w, n) for w, n in row.exclusions]
    passed: dict[str, int] = {}
    out = ~first.is_in(DeliveryState.QUEUED) & ~first.was_sent
    pairs, counts = np.unique(np.stack((first.state[out], first.reason[out])), axis=1, return_counts=True)
    for (code, reason), n in zip(pairs.T.tolist(), counts.tolist(), strict=True):
        state, why_not = STATES[code], first.reasons[reason]
        words = why_not.capitalize() if state == DeliveryState.SKIPPED else state.capitalize()
        if state == DeliveryState.FAILED:
            words = f"Failed, {(why_not or 'unknown').partition(':')[0]}"
        passed[words] = passed.get(words, 0) - n
    why = [*exclusions[:-1], ("Scheduled", exclusions[-1][1])] if exclusions else []
    why += sorted(passed.items(), key=lambda x: x[1])
    if exclusions:
        why.append(("Sent", sent))
    return why


def results(workspace: Workspace, row_id: CampaignId) -> models.Results:
    """Everything the Results page shows, as of now."""
    row = row_of(workspace, row_id)
    view = workspace.view()
    message, db = row.message or NO_MESSAGE, workspace.store.read()
    m, outcomes = MessageFigures(view, message), Outcomes(workspace, message, view.now)
    sends = {k: _send(m, outcomes, d) for k, d in deliveries_of(workspace, row_id).items()}
    variant_names = {p.kind: [a.name for a in arms_in(p, row.plan)] for p in batch_table.passes(db, row_id)}
    first, again, second = (sends[k] for k in (SendKind.FIRST, SendKind.RESEND, SendKind.SECOND_RESEND))

    batches, lines = batch_table.uncounted(db, row_id), dict[int, models.BatchLine]()
    of_kind = {kind: [b for b in batches if b.kind == kind] for kind in sends}
    place = {kind: _places(of_kind[kind], s) for kind, s in sends.items()}
    seen, observed = expected.of_sent(
        workspace, view, row.purpose, first.d, first.opened, place[SendKind.FIRST], len(of_kind[SendKind.FIRST])
    )
    for kind, s in sends.items():
        of_batch: list[Seen] = observed if kind == SendKind.FIRST else [None] * len(of_kind[kind])
        for b in _lines(row, of_kind[kind], s, place[kind], variant_names.get(kind, []), of_batch):
            lines[b.id] = b
    on = first.reached
    opened = int((on & first.opened).sum())
    variants, verdict, later = _variants(workspace, row_id, again, first, SendKind.RESEND)
    second_arms, second_verdict, _ = _variants(workspace, row_id, second, first, SendKind.SECOND_RESEND)
    settles_at = _settles_at(workspace, view, [again, second])
    why = _why_not(row, first.d, int(on.sum()))
    hours, days, half = _hours(m, first.d)
    return models.Results(
        as_of=view.now,
        batches=[lines[b.id] for b in batches],
        sent=int(on.sum()),
        delivered=int((on & first.delivered).sum()),
        opened=opened,
        observed=seen,
        unsure=int((on & first.unsure).sum()),
        clicked=int((on & first.clicked).sum()),
        machine_only=int((on & first.machine).sum()),
        variants=variants,
        verdict=verdict,
        second_arms=second_arms,
        second_verdict=second_verdict,
        settles_at=settles_at,
        engaged_first=opened - later,
        engaged_all=opened,
        why_not=[models.Exclusion(words=w, count=n) for w, n in why],
        hours=hours,
        days=days,
        settled_at=_settles_at(workspace, view, list(sends.values())),
        half_hours=half,
        unconfirmed=sum(x.unconfirmed for x in lines.values()),
        failed=sum(x.failed for x in lines.values()),
    )


def _variant_rows(lifts: list[Lift], held: VariantCount) -> list[models.VariantResult]:
    """Each variant beside the holdout group, and the holdout group itself."""
    out: list[models.VariantResult] = [
        models.VariantResult(
            variant=x.variant.variant,
            people=x.variant.people,
            engaged=x.variant.engaged,
            unsubscribed=x.variant.unsubscribed,
            complained=x.variant.complained,
            difference=x.difference.point if held.people else None,
            low=x.difference.low if held.people else None,
            high=x.difference.high if held.people else None,
            added=x.added if held.people else None,
            verdict=x.verdict if held.people else "not shown",
        )
        for x in lifts
    ]
    out.append(
        models.VariantResult(
            variant=held.variant,
            people=held.people,
            engaged=held.engaged,
            unsubscribed=held.unsubscribed,
            complained=held.complained,
            difference=None,
            low=None,
            high=None,
            added=None,
            verdict="",
        )
    )
    return out


def _variants(
    workspace: Workspace, row_id: CampaignId, again: _Send, first: _Send, kind: SendKind
) -> tuple[list[models.VariantResult], str, int]:
    """Each variant of the resend and the holdout group; answers count from their own batch's resend moment. Also how many
    of those whom the first send reached engaged after it was resent to them."""
    d = again.d
    if not len(d):
        return [], "", 0
    # a batch and those of its variants that wait longer are one draw at random: all are counted from its first resend on
    groups, group = np.unique(d.batch_n, return_inverse=True)
    sent = d.is_in(DeliveryState.SENT)
    gone = sent & (d.changed_at > 0)
    due, begun_at = (np.full(len(groups), FAR, np.int64) for _ in range(2))
    np.minimum.at(due, group, d.due_at)
    np.minimum.at(begun_at, group[gone], d.changed_at[gone])
    since = np.where(begun_at < FAR, begun_at, due)[group]
    resend = next(p for p in batch_table.passes(workspace.store.read(), row_id) if p.kind == kind)
    names = [a.name for a in arms_in(resend, row_of(workspace, row_id).plan)]
    begun = np.isin(group, group[sent])
    engaged = again.last_act >= since
    unsubscribed = (again.unsubscribed < FAR) & (again.unsubscribed >= since)
    complained = (again.complained < FAR) & (again.complained >= since)

    def count(name: str, chosen: Mask) -> VariantCount:
        return VariantCount(
            name, int(chosen.sum()), *(int((chosen & x).sum()) for x in (engaged, unsubscribed, complained))
        )

    # everybody the lot put into a variant counts there, also who answered or left before it came to them
    drawn, holdout = begun & ~d.because(TOO_OFTEN), d.because(HOLDOUT)
    held = count("Holdout", drawn & holdout)
    lifts = [lift(count(name, drawn & ~holdout & (d.variant == i)), held) for i, name in enumerate(names)]
    out = _variant_rows(lifts, held)
    later = np.isin(first.d.subscriber[first.reached], d.subscriber[sent & engaged])
    settled = any(x.variant.people for x in lifts)
    return out, in_words(lifts, held) if settled else "", int(later.sum())


def _settles_at(workspace: Workspace, view: View, again: list[_Send]) -> int | None:
    """When what some sends did is settled: 95% of this workspace's engagement is in by then. None where nothing of them
    has gone out."""
    last = max((int(s.d.changed_at[s.d.is_in(DeliveryState.SENT)].max(initial=0)) for s in again), default=0)
    return last + waits.usual_wait(workspace, view) if last else None


def _hours(m: MessageFigures, first: DeliveryColumns) -> tuple[list[int], list[int], float | None]:
    """First answers by whole hours and by whole days since send, and the hours in which half of them came."""
    gone = first.is_in(DeliveryState.SENT) & (first.changed_at > 0)
    who, sent_at = first.subscriber[gone], first.changed_at[gone]
    human = m.act_by != MACHINE
    soonest = np.full(len(who), FAR, np.int64)
    place = np.minimum(np.searchsorted(who, m.act_person[human]), max(len(who) - 1, 0))
    ok = who[place] == m.act_person[human] if len(who) else np.zeros(int(human.sum()), bool)
    np.minimum.at(soonest, place[ok], m.act_at[human][ok])
    delays = (soonest - sent_at)[soonest < FAR] / HOUR
    if not len(delays):
        return [0] * HOURS, [0] * DAYS_SHOWN, None
    counts = np.bincount(np.clip(delays, 0, HOURS - 1).astype(np.int64)[delays < HOURS], minlength=HOURS)
    days = np.bincount(np.clip(delays // 24, 0, DAYS_SHOWN - 1).astype(np.int64), minlength=DAYS_SHOWN)
    return counts.tolist(), days.tolist(), float(np.median(delays))


COLUMNS = (
    "send",
    "batch",
    "people",
    "sent",
    "delivered",
    "opened_by_people",
    "of_these_unsure",
    "clicked_by_people",
    "machine_only",
    "unsubscribed",
    "complained",
    "bounced",
    "passed_over",
    "unconfirmed",
)


def as_csv(workspace: Workspace, row_id: CampaignId) -> str:
    """The figures per batch."""
    r = results(workspace, row_id)
    out = io.StringIO()
    w = csv.writer(out)
    w.writerow(COLUMNS)
    for b in r.batches:
        w.writerow(
            [
                b.kind,
                b.n,
                b.people,
                b.sent,
                b.delivered,
                b.opened,
                b.unsure,
                b.clicked,
                b.machine_only,
                b.unsubscribed,
                b.complained,
                b.bounced,
                b.passed_over,
                b.unconfirmed,
            ]
        )
    return out.getvalue()


def variants_as_csv(workspace: Workspace, row_id: CampaignId) -> str:
    """The variants of the resends beside their holdout groups; its head alone where there was none."""
    r = results(workspace, row_id)
    out = io.StringIO()
    w = csv.writer(out)
    w.writerow(["send", "variant", "people", "engaged_after", "difference", "low", "high", "added", "verdict"])
    for send, a in [*(("resend", v) for v in r.variants), *(("second resend", v) for v in r.second_arms)]:
        w.writerow(
            [
                send,
                a.variant,
                a.people,
                a.engaged,
                *("" if x is None else f"{x:.6f}" for x in (a.difference, a.low, a.high, a.added)),
                a.verdict,
            ]
        )
    return out.getvalue()
