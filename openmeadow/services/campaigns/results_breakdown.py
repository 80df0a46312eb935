"""A campaign's results divided: by provider, band, version, list; links, replies, bookings, placement; beside others."""

from __future__ import annotations

from dataclasses import asdict

import numpy as np

from openmeadow.core.arrays import Mask
from openmeadow.core.columns import MACHINE
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import Missing
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, CampaignId, MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.states import SendKind
from openmeadow.core.statistics import wilson
from openmeadow.services import models
from openmeadow.services.campaigns import ab_test, figures, waits, what_came_back
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.campaigns.figures import MessageFigures, Whole
from openmeadow.services.health import placement
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import event_hours, events
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import selections

MOST_COMPARED, ENOUGH_CAMPAIGNS, LATELY, MOST_PAST, FEW_DELIVERED = 4, 4, 540, 60, 100
RATES = ("opened", "clicked", "unsubscribed", "complained", "bounced")
SETTLED = 3 * DAY  # a message younger than this has not had its answers yet


MOST_REPLIES = 100


def divided(workspace: Workspace, row_id: CampaignId) -> models.ResultParts:
    """Everything that Results shows below the batches, of this campaign alone."""
    row, view = row_of(workspace, row_id), workspace.view()
    assert isinstance(view.facts, StoreFacts)
    told = MessageFigures(view, row.message or NO_MESSAGE)
    names, db = provider_names(workspace.store.read()), workspace.store.read()
    by: list[models.DividedBy] = []

    def add(title: str, lines: list[tuple[str, Mask]], note: str = "") -> None:
        found = [models.DividedLine(words=words, **told.of(mask)) for words, mask in lines if mask.any()]
        if len(found) > (title != "List"):  # one part of a whole says nothing, but for a list
            by.append(models.DividedBy(title=title, lines=found, note=note))

    provider = view.facts.provider[told.person]
    add("Provider", [(names[i], provider == i) for i in (*range(1, len(names)), 0) if names[i]])
    first = figures.deliveries_of(workspace, row_id)[SendKind.FIRST]
    place = np.minimum(np.searchsorted(first.subscriber, told.ids), max(len(first) - 1, 0))
    there = np.asarray(first.subscriber[place] == told.ids) if len(first) else np.zeros(len(told.ids), bool)
    band = np.where(there, first.band[place], -1) if len(first) else np.full(len(told.ids), -1)
    add("Band when it was scheduled", [(b, np.asarray(band == i)) for i, b in enumerate(BANDS)])
    said = np.where(there, np.maximum(first.version[place], 1), 0) if len(first) else np.zeros(len(told.ids), np.int64)
    if len(set(said.tolist()) - {0}) > 1:
        trial = bool(row.plan.test)
        note = "Only the pilot batch was random, for the A/B test; later batches differ. "
        note = f"{note if trial else 'Not randomised: batches differ. '}Do not compare these."
        several = sorted(set(said.tolist()) - {0})
        add("Version", [(f"Version {ab_test.letter(n)}", np.asarray(said == n)) for n in several], note)
    lists = [(name, view.facts.in_list(name)[told.person]) for name, _ in selections.list_sizes(db)]
    add("List", lists, "Lists can overlap.")
    human = told.act_by != MACHINE
    person, kind, value = told.act_person[human], told.act_kind[human], told.act_value[human]
    booked = kind == Kind.BOOKED
    message = row.message or NO_MESSAGE
    return models.ResultParts(
        by=by,
        links=links(workspace, row),
        replies=int(np.unique(person[kind == Kind.REPLIED]).size),
        replied=replied(workspace, (row.message or NO_MESSAGE)),
        bookings=int(booked.sum()),
        value=float(value[booked].sum()),
        booked=what_came_back.booked_by(workspace, told),
        bounce_reasons=what_came_back.bounce_reasons(workspace, message),
        placement=placement.results(workspace, row_id)[:1],
        trial=trial_of(workspace, row),
    )


def replied(workspace: Workspace, message: MessageId) -> list[models.Replied]:
    """Who replied, the latest first."""
    return [models.Replied.read_from(r) for r in events.replied(workspace.store.read(), message, MOST_REPLIES)]


def links(workspace: Workspace, row: Campaign) -> list[models.LinkLine]:
    """Each link with how many people clicked it, and machines apart; the most first."""
    if not row.message:
        return []
    view, db = workspace.view(), workspace.store.read()
    acts, ids = view.acts_of(row.message), view.columns.people.id
    clicked = acts.kind == Kind.CLICKED
    machines = set(ids[acts.person[clicked & (acts.by == MACHINE)]].tolist())
    people = set(ids[acts.person[clicked & (acts.by != MACHINE)]].tolist())
    out = []
    for link in campaigns.links(db, row.message):
        if link.trap:
            continue
        who = set(campaigns.clicked_link(db, link.id, view.now))
        out.append(models.LinkLine(url=link.url, people=len(who & people), machines=len(who & (machines - people))))
    return sorted(out, key=lambda x: -x.people)


def trial_of(workspace: Workspace, row: Campaign) -> models.TrialResult | None:
    """The versions tried at random: their figures, the difference with its interval, what was decided."""
    seen, test = ab_test.judged(workspace, row), row.plan.test
    if seen is None or test is None:
        return None
    counts, found = seen
    return models.TrialResult(
        figure=test.figure,
        versions=[models.TrialLine(words=c.variant, people=c.people, engaged=c.engaged) for c in counts],
        difference=found.difference.point,
        low=found.difference.low,
        high=found.difference.high,
        verdict=found.verdict,
        settled=test.settled,
        why=test.why,
    )


def _line(name: str, at: int | None, whole: Whole, happened: dict[int, int], row_id: int = 0) -> models.ComparedLine:
    """A mailing from the figures that are counted for all at once, and what happened after it."""
    return models.ComparedLine(
        id=row_id,
        name=name,
        at=at,
        **asdict(whole),
        unsubscribed=happened.get(int(Kind.UNSUBSCRIBED), 0),
        complained=happened.get(int(Kind.COMPLAINED), 0),
        bounced=whole.sent - whole.delivered,
    )


def _now(workspace: Workspace, row: Campaign) -> models.ComparedLine:
    """A campaign as of now."""
    message = row.message or NO_MESSAGE
    whole = figures.every(workspace).get(message, Whole(0, 0, 0, 0, 0))
    happened = campaigns.happened(workspace.store.read(), message, workspace.now())
    return _line(row.name, row.started_at, whole, happened, row.id)


class _Happened:
    """What happened after mailings of before: it stands for the day, in a small workspace until anything comes."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.kept: tuple[object, dict[int, dict[int, int]]] = (None, {})

    def after(self, message: int, mark: object) -> dict[int, int]:
        if self.kept[0] != mark:
            self.kept = (mark, {})
        kept = self.kept[1]
        if message not in kept:
            kept[message] = campaigns.happened(self.workspace.store.read(), MessageId(message), self.workspace.now())
        return kept[message]


def compared(workspace: Workspace, ids: list[int]) -> list[models.ComparedLine]:
    """Whole figures of up to four campaigns side by side."""
    out = []
    for row_id in list(dict.fromkeys(ids))[:MOST_COMPARED]:
        row = row_of(workspace, row_id)
        if not row.message:
            raise Missing(f"“{row.name}” has not started.")
        out.append(_now(workspace, row))
    return out


def usual(workspace: Workspace, row: Campaign) -> models.Usual | None:
    """The range in which this workspace's mailings lie: the middle half of each rate, over those of the last 18 months
    that had their answers, about the same purpose where there are enough. None where there are too few to judge by."""
    db, now = workspace.store.read(), workspace.now()
    names, whole = campaigns.message_names(db), figures.every(workspace)
    began = {m.message: m.began for m in event_hours.by_message(db)}
    lately = [
        m
        for m, at in sorted(began.items(), key=lambda x: -x[1])
        if m in names and m in whole and m != row.message and now - LATELY * DAY < at <= now - SETTLED
    ][:MOST_PAST]
    same = [m for m in lately if names[m][1] == row.purpose]
    chosen = same if len(same) >= ENOUGH_CAMPAIGNS else lately
    happened, mark = workspace.part(_Happened), waits.mark(workspace, workspace.view())
    past = [_line(names[m][0], began[m], whole[m], happened.after(m, mark)) for m in chosen]
    past = [p for p in past if p.delivered >= FEW_DELIVERED]
    if len(past) < ENOUGH_CAMPAIGNS:
        return None
    ranges = {}
    for rate in RATES:
        base = "sent" if rate == "bounced" else "delivered"
        shares = [getattr(p, rate) / getattr(p, base) for p in past]
        low, middle, high = np.quantile(shares, [0.25, 0.5, 0.75])
        ranges[rate] = models.UsualRange(low=float(low), middle=float(middle), high=float(high))
    return models.Usual(mailings=len(past), about=(row.purpose_name or "") if chosen is same else "", **ranges)


def in_text(workspace: Workspace, row_id: int, d: models.ResultParts) -> str:
    """The results as text to paste; ``d`` is what ``divided`` found."""
    row = row_of(workspace, row_id)
    line = _now(workspace, row)

    def of(word: str, base: str = "delivered") -> str:
        k, n = getattr(line, word), getattr(line, base)
        if not n:
            return "–"
        i = wilson(k, n)
        return f"{k:,} of {n:,} ({100 * i.point:.1f}%, {100 * i.low:.1f} to {100 * i.high:.1f})"

    out = [
        f"{row.name}: “{row.subject}”",
        f"Sent {line.sent:,}; delivered {of('delivered', 'sent')}",
        f"Opens (human) {of('opened')}",
        f"Clicks (human) {of('clicked')}",
        f"Machine only {of('machine_only')}",
        f"Unsubscribed {of('unsubscribed')}; complained {of('complained')}; bounced {of('bounced', 'sent')}",
    ]
    if d.replies or d.bookings:
        out.append(f"Replies {d.replies:,}; bookings {d.bookings:,}, worth {d.value:,.2f}")
    out += [f"  {x.people:,} people clicked {x.url}" for x in d.links if x.people]
    return "\n".join(out) + "\n"
