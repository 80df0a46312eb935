"""A campaign's results divided: by provider, band, version, list; links, replies, bookings, placement; beside others."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import Mask
from openmeadow.core.columns import MACHINE
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Missing
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, CampaignId, MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.core.statistics import wilson
from openmeadow.services import models
from openmeadow.services.campaigns import ab_test
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.health import placement
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import selections

MOST_COMPARED, ENOUGH_CAMPAIGNS, LATELY, MOST_PAST, FEW_DELIVERED = 4, 4, 540, 60, 100
RATES = ("opened", "clicked", "unsubscribed", "complained", "bounced")
SETTLED = 3 * DAY  # a message younger than this has not had its answers yet


class Told:
    """One message's rows of the view, with what people did about it."""

    def __init__(self, view: View, message: MessageId) -> None:
        rows, acts, now = view.columns.rows, view.columns.acts, view.now
        at = np.flatnonzero((rows.message == message) & (rows.first_at <= now))
        self.person = rows.person[at]
        self.delivered: Mask = np.asarray(rows.failed_at[at] > now)
        self.opened: Mask = np.asarray(self.delivered & (np.minimum(rows.opened_at[at], rows.reacted_at[at]) <= now))
        self.clicked: Mask = np.asarray(self.delivered & (rows.clicked_at[at] <= now))
        self.machine: Mask = np.asarray(self.delivered & ~self.opened & (rows.machine_at[at] <= now))
        hit = (acts.message == message) & (acts.at <= now) & (acts.by != MACHINE)
        self.acts = acts.person[hit], acts.kind[hit], acts.value[hit]

    def of(self, mask: Mask) -> dict[str, int]:
        """Sent, delivered, opened, clicked and machine only among some of the rows."""
        return {
            "sent": int(mask.sum()),
            "delivered": int((mask & self.delivered).sum()),
            "opened": int((mask & self.opened).sum()),
            "clicked": int((mask & self.clicked).sum()),
            "machine_only": int((mask & self.machine).sum()),
        }


MOST_REPLIES = 100


def divided(workspace: Workspace, row_id: CampaignId) -> models.ResultParts:
    """Everything that Results shows below the batches, of this campaign alone."""
    row, view = row_of(workspace, row_id), workspace.view()
    assert isinstance(view.facts, StoreFacts)
    told = Told(view, (row.message or NO_MESSAGE))
    names, db = provider_names(workspace.store.read()), workspace.store.read()
    by: list[models.DividedBy] = []

    def add(title: str, lines: list[tuple[str, Mask]], note: str = "") -> None:
        found = [models.DividedLine(words=words, **told.of(mask)) for words, mask in lines if mask.any()]
        if len(found) > (title != "List"):  # one part of a whole says nothing, but for a list
            by.append(models.DividedBy(title=title, lines=found, note=note))

    provider = view.facts.provider[told.person]
    add("Provider", [(names[i], provider == i) for i in (*range(1, len(names)), 0) if names[i]])
    first = {d.subscriber: d for d in deliveries.of_campaign(db, row_id, "first")}
    ids = view.columns.people.id[told.person].tolist()
    band = np.array([first[s].band if s in first else -1 for s in ids], np.int64)
    add("Band when it was scheduled", [(b, np.asarray(band == i)) for i, b in enumerate(BANDS)])
    said = np.array([(first[s].version or 1) if s in first else 0 for s in ids], np.int64)
    if len(set(said.tolist()) - {0}) > 1:
        trial = bool(row.plan.test)
        note = "Only the pilot batch was random, for the A/B test; later batches differ. "
        note = f"{note if trial else 'Not randomised: batches differ. '}Do not compare these."
        several = sorted(set(said.tolist()) - {0})
        add("Version", [(f"Version {ab_test.letter(n)}", np.asarray(said == n)) for n in several], note)
    lists = [(name, view.facts.in_list(name)[told.person]) for name, _ in selections.list_sizes(db)]
    add("List", lists, "Lists can overlap.")
    person, kind, value = told.acts
    booked = kind == Kind.BOOKED
    return models.ResultParts(
        by=by,
        links=links(workspace, row),
        replies=int(np.unique(person[kind == Kind.REPLIED]).size),
        replied=replied(workspace, (row.message or NO_MESSAGE)),
        bookings=int(booked.sum()),
        value=float(value[booked].sum()),
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
    acts = view.columns.acts
    by_machine = (acts.message == row.message) & (acts.kind == Kind.CLICKED) & (acts.by == MACHINE)
    machines = set(view.columns.people.id[acts.person[by_machine]].tolist())
    people = set(
        view.columns.people.id[
            acts.person[(acts.message == row.message) & (acts.kind == Kind.CLICKED) & (acts.by != MACHINE)]
        ].tolist()
    )
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


def _line(
    workspace: Workspace, view: View, message: MessageId, name: str, at: int | None, row_id: int = 0
) -> models.ComparedLine:
    told = Told(view, message)
    figures = told.of(np.ones(len(told.person), bool))
    happened = campaigns.happened(workspace.store.read(), message, view.now)
    return models.ComparedLine(
        id=row_id,
        name=name,
        at=at,
        **figures,
        unsubscribed=happened.get(int(Kind.UNSUBSCRIBED), 0),
        complained=happened.get(int(Kind.COMPLAINED), 0),
        bounced=figures["sent"] - figures["delivered"],
    )


def compared(workspace: Workspace, ids: list[int]) -> list[models.ComparedLine]:
    """Whole figures of up to four campaigns side by side."""
    view, out = workspace.view(), []
    for row_id in list(dict.fromkeys(ids))[:MOST_COMPARED]:
        row = row_of(workspace, row_id)
        if not row.message:
            raise Missing(f"“{row.name}” has not started.")
        out.append(_line(workspace, view, row.message, row.name, row.started_at, row_id))
    return out


_rates: dict[str, tuple[tuple[int, int], dict[int, tuple[int, int, int]]]] = {}  # by workspace: when, what was counted


def rates(workspace: Workspace) -> dict[int, tuple[int, int, int]]:
    """Every message's delivered, opened and clicked, in people; of the same minute and the same events counted once."""
    state = (events.highest(workspace.store.read()), workspace.now() // 60)
    kept = _rates.get(str(workspace.folder))
    if kept is None or kept[0] != state:
        view = workspace.view()
        rows, now = view.columns.rows, view.now
        there = (rows.first_at <= now) & (rows.failed_at > now)
        opened = there & (np.minimum(rows.opened_at, rows.reacted_at) <= now)
        counts = [np.bincount(rows.message[hit]) for hit in (there, opened, there & (rows.clicked_at <= now))]
        found = zip(*(np.pad(c, (0, len(counts[0]) - len(c))).tolist() for c in counts), strict=True)
        kept = _rates[str(workspace.folder)] = (state, dict(enumerate(found)))
    return kept[1]


def first_sent(view: View) -> dict[int, int]:
    """When each message was first sent to anybody."""
    rows = view.columns.rows
    out = np.full(int(rows.message.max(initial=0)) + 1, np.iinfo(np.int64).max, np.int64)
    np.minimum.at(out, rows.message, rows.first_at)
    return {int(m): int(out[m]) for m in np.flatnonzero(out <= view.now)}


def usual(workspace: Workspace, row: Campaign) -> models.Usual | None:
    """The range in which this workspace's mailings lie: the middle half of each rate, over those of the last 18 months
    that had their answers, about the same purpose where there are enough. None where there are too few to judge by."""
    view, names = workspace.view(), campaigns.message_names(workspace.store.read())
    began = first_sent(view)
    lately = [
        m
        for m, at in sorted(began.items(), key=lambda x: -x[1])
        if m in names and m != row.message and view.now - LATELY * DAY < at <= view.now - SETTLED
    ][:MOST_PAST]
    same = [m for m in lately if names[m][1] == row.purpose]
    chosen = same if len(same) >= ENOUGH_CAMPAIGNS else lately
    past = [_line(workspace, view, MessageId(m), names[m][0], began[m]) for m in chosen]
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
    row, view = row_of(workspace, row_id), workspace.view()
    line = _line(workspace, view, (row.message or NO_MESSAGE), row.name, row.started_at)

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
