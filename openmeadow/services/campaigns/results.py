"""What a campaign did: per batch, people and machines apart; the resend against those in the holdout group; why not."""

from __future__ import annotations

import csv
import io

import numpy as np

from openmeadow.core.arrays import FAR, I64, Mask
from openmeadow.core.delivery.uplift import Lift, VariantCount, in_words, lift
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, CampaignId, MessageId, SubscriberId
from openmeadow.core.moments import HOUR
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import OPEN_BATCHES, BatchState, CampaignState, DeliveryState
from openmeadow.services import models
from openmeadow.services.campaigns import send_time
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.campaigns.resend import TOO_OFTEN, arms_in
from openmeadow.services.workspace import Workspace
from openmeadow.store.bulk import Many
from openmeadow.store.campaigns import deliveries
from openmeadow.store.campaigns.records import BatchCounts, BatchDelivery, Campaign
from openmeadow.store.engagement import event_counts

HOURS = 48


class _Message:
    """One message's rows, looked up by subscriber, with who complained, unsubscribed or bounced."""

    def __init__(self, workspace: Workspace, view: View, message: MessageId) -> None:
        rows = view.columns.rows
        self.at = np.flatnonzero(rows.message == message)
        self.rows, self.now = rows, view.now
        ids = view.columns.people.id[rows.person[self.at]]
        order = np.argsort(ids)
        self.at, self.ids = self.at[order], ids[order]
        self.happened = event_counts.first_of_message(workspace.store.read(), message, view.now)
        acts = view.columns.acts
        mine = np.flatnonzero((acts.message == message) & (acts.at <= view.now))
        self.act_at, self.act_by, self.act_kind = acts.at[mine], acts.by[mine], acts.kind[mine]
        self.act_person = view.columns.people.id[acts.person[mine]]

    def rows_of(self, subscribers: Many[int]) -> I64:
        wanted = np.array(sorted(set(subscribers)), np.int64)
        if not len(self.ids) or not len(wanted):
            return self.at[:0]
        place = np.minimum(np.searchsorted(self.ids, wanted), len(self.ids) - 1)
        found: I64 = self.at[place[self.ids[place] == wanted]]
        return found

    def count(self, kind: Kind, subscribers: set[SubscriberId], since: int = 0) -> int:
        return sum(1 for s, at in self.happened.get(kind, {}).items() if s in subscribers and at >= since)

    def figures(self, subscribers: set[SubscriberId]) -> dict[str, int]:
        """Delivered, opened and clicked by people, machine only; counted in people."""
        at = self.rows_of(subscribers)
        r, now = self.rows, self.now
        delivered: Mask = r.failed_at[at] > now
        opened = delivered & ((r.opened_at[at] <= now) | (r.reacted_at[at] <= now))
        clicked_people = set(self.act_person[(self.act_kind == Kind.CLICKED) & (self.act_by != 1)].tolist())
        unsure_people = set(self.act_person[self.act_by == 2].tolist())
        sure_people = set(self.act_person[self.act_by == 0].tolist())
        return {
            "delivered": int(delivered.sum()),
            "opened": int(opened.sum()),
            "unsure": len((unsure_people - sure_people) & subscribers),
            "clicked": len(clicked_people & subscribers),
            "machine_only": int((delivered & ~opened & (r.machine_at[at] <= now)).sum()),
            "unsubscribed": self.count(Kind.UNSUBSCRIBED, subscribers),
            "complained": self.count(Kind.COMPLAINED, subscribers),
        }

    def engaged_after(self, subscribers: set[SubscriberId], since: int) -> int:
        """People who opened, clicked, replied or booked in or after ``since``."""
        hit = (self.act_by != 1) & (self.act_at >= since)
        return len(set(self.act_person[hit].tolist()) & subscribers)


def _line(
    row: Campaign, m: _Message, b: BatchCounts, source: list[BatchDelivery], variants: list[str]
) -> models.BatchLine:
    """One batch, or one variant of a resend's batch, with what came of it."""
    mine = [d for d in source if d.batch == b.id]
    reached = {d.subscriber for d in mine if deliveries.was_sent(d)}
    figures = m.figures(reached)
    if b.kind != "first":
        since = min((d.changed_at for d in mine if d.changed_at), default=int(FAR))
        figures["opened"] = m.engaged_after(reached, since)
        figures["clicked"] = len(
            set(m.act_person[(m.act_kind == Kind.CLICKED) & (m.act_by != 1) & (m.act_at >= since)].tolist()) & reached
        )
        figures["unsubscribed"] = m.count(Kind.UNSUBSCRIBED, reached, since)
        figures["complained"] = m.count(Kind.COMPLAINED, reached, since)
        figures["machine_only"] = figures["unsure"] = 0
    bands = np.bincount([d.band for d in mine], minlength=len(BANDS)).tolist() if mine else [0] * len(BANDS)
    bounced = m.count(Kind.BOUNCED, reached)
    return models.BatchLine(
        id=b.id,
        due_at=b.due_at,
        people=b.people,
        waiting=b.waiting,
        deferred=b.deferred,
        failed=b.failed,
        unconfirmed=b.unconfirmed,
        sent=len(reached),
        n=b.n,
        late=b.late,
        variant=variants[b.variant - 1] if b.variant else "",
        passed_over=b.passed_over,
        kind=b.kind,
        state=BatchState.PAUSED if row.state == CampaignState.PAUSED and b.state in OPEN_BATCHES else b.state,
        **figures,
        bounced=bounced,
        bands=bands,
    )


def _why_not(row: Campaign, first: list[BatchDelivery], sent: int) -> list[tuple[str, int]]:
    """From who was selected to who was sent it: the words and the counts, negative for those who fell out."""
    exclusions = [(w, n) for w, n in row.exclusions]
    passed: dict[str, int] = {}
    for d in first:
        if d.state != "queued" and not deliveries.was_sent(d):
            words = d.state.capitalize() if d.state != "skipped" else (d.reason or "").capitalize()
            if d.state == "failed":
                words = f"Failed, {(d.reason or 'unknown').partition(':')[0]}"
            passed[words] = passed.get(words, 0) - 1
    why = [*exclusions[:-1], ("Scheduled", exclusions[-1][1])] if exclusions else []
    why += sorted(passed.items(), key=lambda x: x[1])
    if exclusions:
        why.append(("Sent", sent))
    return why


def results(workspace: Workspace, row_id: CampaignId) -> models.Results:
    """Everything the Results page shows, as of now."""
    row = row_of(workspace, row_id)
    view = workspace.view()
    m = _Message(workspace, view, (row.message or NO_MESSAGE))
    db = workspace.store.read()
    first = deliveries.of_campaign(db, row_id, "first")
    again = deliveries.of_campaign(db, row_id, "resend")
    by_kind = {"first": first, "resend": again, "second resend": deliveries.of_campaign(db, row_id, "second resend")}
    variant_names = {p.kind: [a.name for a in arms_in(p, row.plan)] for p in deliveries.passes(db, row_id)}
    lines = [_line(row, m, b, by_kind[b.kind], variant_names[b.kind]) for b in deliveries.batches(db, row_id)]
    everybody = {d.subscriber for d in first if deliveries.was_sent(d)}
    whole = m.figures(everybody)
    variants, verdict, engaged_first = _variants(workspace, row_id, m, again, everybody, "resend")
    second_arms, second_verdict, _ = _variants(workspace, row_id, m, by_kind["second resend"], everybody, "second resend")
    settles_at = _settles_at(view, [*again, *by_kind["second resend"]])
    why = _why_not(row, first, len(everybody))
    hours, half = _hours(m, first)
    return models.Results(
        as_of=view.now,
        batches=lines,
        sent=len(everybody),
        delivered=whole["delivered"],
        opened=whole["opened"],
        unsure=whole["unsure"],
        clicked=whole["clicked"],
        machine_only=whole["machine_only"],
        variants=variants,
        verdict=verdict,
        second_arms=second_arms,
        second_verdict=second_verdict,
        settles_at=settles_at,
        engaged_first=engaged_first,
        engaged_all=whole["opened"],
        why_not=[models.Exclusion(words=w, count=n) for w, n in why],
        hours=hours,
        half_hours=half,
        unconfirmed=sum(x.unconfirmed for x in lines),
        failed=sum(x.failed for x in lines),
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
    workspace: Workspace,
    row_id: CampaignId,
    m: _Message,
    again: list[BatchDelivery],
    everybody: set[SubscriberId],
    kind: str,
) -> tuple[list[models.VariantResult], str, int]:
    """Each variant of the resend and the holdout group; answers count from their own batch's resend moment."""
    if not again:
        return [], "", m.figures(everybody)["opened"]
    # a batch and those of its variants that wait longer are one draw at random: all are counted from its first resend on
    group = {d.batch: d.batch_n for d in again}
    starts = {
        g: min(
            (d.changed_at for d in again if group[d.batch] == g and d.changed_at and d.state == "sent"),
            default=min(d.due_at for d in again if group[d.batch] == g),
        )
        for g in set(group.values())
    }
    resend = next(p for p in deliveries.passes(workspace.store.read(), row_id) if p.kind == kind)
    names = [a.name for a in arms_in(resend, row_of(workspace, row_id).plan)]
    begun = {group[d.batch] for d in again if d.state == "sent"}

    def count(name: str, chosen: list[BatchDelivery]) -> VariantCount:
        total = [0, 0, 0]
        for g, since in starts.items():
            people = {d.subscriber for d in chosen if group[d.batch] == g}
            total[0] += m.engaged_after(people, since)
            total[1] += m.count(Kind.UNSUBSCRIBED, people, since)
            total[2] += m.count(Kind.COMPLAINED, people, since)
        return VariantCount(name, len(chosen), *total)

    # everybody the lot put into an variant counts there, also who answered or left before it came to them
    drawn = [d for d in again if group[d.batch] in begun and d.reason != TOO_OFTEN]
    held = count("Holdout", [d for d in drawn if d.reason == "holdout"])
    lifts = [
        lift(count(name, [d for d in drawn if d.variant == i and d.reason != "holdout"]), held)
        for i, name in enumerate(names)
    ]
    out = _variant_rows(lifts, held)
    later: set[SubscriberId] = set()
    for g, since in starts.items():
        reached = {d.subscriber for d in again if group[d.batch] == g and d.state == "sent"}
        later |= reached & set(m.act_person[(m.act_by != 1) & (m.act_at >= since)].tolist())
    engaged_first = m.figures(everybody)["opened"] - len(later & everybody)
    settled = any(x.variant.people for x in lifts)
    return out, in_words(lifts, held) if settled else "", engaged_first


def _settles_at(view: View, again: list[BatchDelivery]) -> int | None:
    """When what the resends did is settled: 95% of this workspace's engagement is in by then. None where nothing of
    them has gone out."""
    last = max((d.changed_at for d in again if d.state == "sent" and d.changed_at), default=None)
    return None if last is None else last + send_time.usual_wait(view)


def _hours(m: _Message, first: list[BatchDelivery]) -> tuple[list[int], float | None]:
    """First answers by whole hours since send, and the hours in which half of them came."""
    sent = {d.subscriber: d.changed_at for d in first if d.state == DeliveryState.SENT and d.changed_at is not None}
    soonest: dict[int, int] = {}
    for s, at, by in zip(m.act_person.tolist(), m.act_at.tolist(), m.act_by.tolist(), strict=True):
        if by != 1 and s in sent:
            soonest[s] = min(soonest.get(s, at), at)
    delays = np.array([(at - sent[SubscriberId(s)]) / HOUR for s, at in soonest.items()])
    if not len(delays):
        return [0] * HOURS, None
    counts = np.bincount(np.clip(delays, 0, HOURS - 1).astype(np.int64)[delays < HOURS], minlength=HOURS)
    return counts.tolist(), float(np.median(delays))


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
    """The figures per batch, then the variants of the resend."""
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
    if r.variants:
        w.writerow([])
        w.writerow(["variant", "people", "engaged_after", "difference", "low", "high", "added", "verdict"])
        for a in r.variants:
            w.writerow(
                [
                    a.variant,
                    a.people,
                    a.engaged,
                    *("" if x is None else f"{x:.6f}" for x in (a.difference, a.low, a.high, a.added)),
                    a.verdict,
                ]
            )
    return out.getvalue()
