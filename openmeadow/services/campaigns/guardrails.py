"""Plans hold themselves: guardrails read after every 50 sends and whenever news arrives, per pass, batch, provider."""

from __future__ import annotations

import json
import time
from collections import defaultdict

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.delivery.guardrails import LIMITS, Reading, could_show, enough, read
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId
from openmeadow.core.reports.bounces import COUNTED, bounce_class
from openmeadow.core.states import BounceClass, CampaignState, DeliveryState, Folder, SendKind, failure_class
from openmeadow.services import models
from openmeadow.services.campaigns.figures import deliveries_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries, guardrail_counts
from openmeadow.store.campaigns.delivery_records import ReturnCount, SentCount
from openmeadow.store.health import health, providers
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.rows import Values
from openmeadow.store.subscribers.subscribers import people_version
from openmeadow.store.turns import Turns

Where = tuple[str, str]  # ("the whole send" | "batch" | "provider", its name)
WHOLE = "all of it"
MOST_EVIDENCE = 1e12  # as JSON can say it
MOST_COUNTED = 100  # campaigns whose counts are kept
FEW = 3  # people in trouble at one place before it is named


def limits(workspace: Workspace) -> dict[str, float]:
    """The limits, as shares; the workspace may set its own."""
    return {**LIMITS, **{k: float(v) for k, v in dict(workspace.setting("guardrails")).items() if k in LIMITS}}


class _Counted:
    """What was tried of each campaign, counted again when a delivery has changed; and everybody's provider."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.kept: dict[tuple[CampaignId, int], tuple[tuple[object, ...], list[SentCount]]] = {}
        self.people: tuple[int, I64, I64] | None = None

    def sent(self, campaign: CampaignId, since: int) -> list[SentCount]:
        db = self.workspace.store.read()
        version = people_version(db)
        changed = guardrail_counts.last_change(db, campaign)
        # some change their state and keep the moment of their last try
        mark = (changed, version, *sorted(deliveries.state_counts(db, campaign).items()))
        found = self.kept.get((campaign, since))
        # within the second of the latest change more may change
        if found is None or found[0] != mark or changed >= self.workspace.now() - 1:
            if len(self.kept) > MOST_COUNTED:
                self.kept.clear()
            found = self.kept[campaign, since] = (
                mark,
                guardrail_counts.sent(
                    deliveries_of(self.workspace, campaign), since, lambda ids: self._providers(ids, version)
                ),
            )
        return found[1]

    def _providers(self, ids: I64, version: int) -> I64:
        if self.people is None or self.people[0] != version:
            self.people = (version, *providers.of_everybody(self.workspace.store.read()))
        return np.asarray(self.people[2][np.searchsorted(self.people[1], ids)])


def counts(workspace: Workspace, campaign: CampaignId, since: int) -> dict[tuple[str, Where], dict[str, int]]:
    """By pass and place: tried, and of each guardrail's kind how many."""
    db, names = workspace.store.read(), provider_names(workspace.store.read())
    out: dict[tuple[str, Where], dict[str, int]] = defaultdict(lambda: defaultdict(int))

    def add(r: SentCount | ReturnCount, word: str, n: int) -> None:
        places: list[Where] = [(WHOLE, ""), ("batch", str(r.batch)), ("provider", names[r.provider])]
        for place in places:
            out[(r.kind, place)][word] += n

    for sent in workspace.part(_Counted).sent(campaign, since):
        failure = failure_class(sent.reason or "")
        add(sent, "tried", sent.n)
        if sent.again and sent.state != DeliveryState.DEFERRED:  # it was put off before
            add(sent, "deferrals", sent.n)
        if sent.state == DeliveryState.SENT:
            add(sent, "sent", sent.n)
        elif failure == BounceClass.BLOCKED:
            add(sent, "blocked", sent.n)
        elif sent.state == DeliveryState.DEFERRED:
            add(sent, "deferrals", sent.n)
        elif failure == BounceClass.HARD:
            add(sent, "hard bounces", sent.n)
    for back in guardrail_counts.came_back(db, campaign, since):
        if back.event == Kind.BOUNCED:
            word = COUNTED.get(bounce_class(back.code, back.diagnostic), "")
        else:
            word = {Kind.COMPLAINED: "complaints", Kind.UNSUBSCRIBED: "unsubscribes"}[Kind(back.event)]
        if word:
            add(back, word, back.n)
    for copy in health.tests(db, campaign):
        if copy.folder in (Folder.INBOX, Folder.SPAM, Folder.MISSING) and copy.at >= since:
            found: list[Where] = [(WHOLE, ""), ("provider", copy.provider)]
            for place in found:
                out[(SendKind.FIRST, place)]["placed"] += 1
                out[(SendKind.FIRST, place)]["spam placement"] += copy.folder != Folder.INBOX
    return out


BASE = {"complaints": "sent", "unsubscribes": "sent", "spam placement": "placed"}


def readings(workspace: Workspace, campaign: CampaignId, since: int) -> list[tuple[str, Where, Reading]]:
    """Every guardrail everywhere, the whole send first."""
    levels, own, out = limits(workspace), providers.limits(workspace.store.read()), []
    for (kind, place), c in sorted(
        counts(workspace, campaign, since).items(), key=lambda x: (x[0][0], x[0][1] != (WHOLE, ""), x[0][1])
    ):
        here = levels | own.get(place[1], {}) if place[0] == "provider" else levels
        for name, limit in here.items():
            n = c.get(BASE.get(name, "tried"), 0)
            if n:
                out.append((kind, place, read(name, c.get(name, 0), n, limit)))
    return out


# when each plan was last looked at, and how long that took: a look that costs much is taken less often, so that looking
# never takes more than a tenth of the time; small plans are looked at after every 50 sends
_looked: dict[tuple[str, int], tuple[float, float]] = {}
CHEAP, SHARE = 0.05, 10.0


def too_soon(workspace: Workspace, campaign: CampaignId) -> bool:
    """Whether a look in between sends can wait."""
    finished, took = _looked.get((str(workspace.folder), campaign), (0.0, 0.0))
    return took > CHEAP and time.monotonic() - finished < took * SHARE


def look(workspace: Workspace, campaign: CampaignId) -> str:
    """Read the guardrails of a campaign under way and hold it where one says so; the sentence, or ""."""
    row = campaigns.one(workspace.store.read(), campaign)
    if row is None or row.state not in ("scheduled", "sending"):
        return ""
    begun = time.monotonic()
    wrong = [(k, w, r) for k, w, r in readings(workspace, campaign, row.guard_from) if r.state == "over limit"]
    _looked[str(workspace.folder), campaign] = (time.monotonic(), time.monotonic() - begun)
    if not wrong:
        return ""
    # the narrowest place that explains it is named first: one provider rather than everybody
    wrong.sort(key=lambda x: ({"provider": 0, "batch": 1, WHOLE: 2}[x[1][0]], -x[2].evidence))
    _, where, worst = wrong[0]
    place = f" at {where[1]}" if where[0] == "provider" else f" in batch {where[1]}" if where[0] == "batch" else ""
    sentence = worst.sentence.replace(":", f"{place}:", 1)
    evidence = [_figures(k, w, r).model_dump() for k, w, r in wrong]
    paused = {"state": "paused", "paused_why": sentence, "paused_evidence": json.dumps(evidence)}
    with workspace.store.atomic() as db:
        if not campaigns.update_in(db, campaign, ("scheduled", "sending"), paused):
            return ""
        settings.log(db, workspace.now(), "guardrail", f"paused campaign: {worst.name}", row.name, worst.k)
    return sentence


def _figures(kind: str, where: Where, r: Reading) -> models.Guardrail:
    return models.Guardrail(
        kind=kind,
        place=where[0],
        name=where[1],
        guardrail=r.name,
        k=r.k,
        n=r.n,
        limit=r.limit,
        evidence=min(r.evidence, MOST_EVIDENCE),
        state=r.state,
    )


def news(workspace: Workspace) -> list[str]:
    """Look at every plan under way; the sentences of those held."""
    return [s for r in guardrail_counts.under_way(workspace.store.read()) if (s := look(workspace, r.id))]


def see(workspace: Workspace, campaign: CampaignId) -> models.Guardrails:
    """The guardrails as they stand, what paused the plan, and what its size can show."""
    row = campaigns.one(workspace.store.read(), campaign)
    assert row is not None
    paused = row.state == CampaignState.PAUSED
    found = readings(workspace, campaign, row.guard_from)
    kept = [models.Guardrail.model_validate(e) for e in json.loads(row.paused_evidence)] if paused else []
    people = sum(b.people for b in batch_table.batches(workspace.store.read(), campaign) if b.kind == SendKind.FIRST)
    return models.Guardrails(
        guardrails=[_figures(k, w, r) for k, w, r in found if w[0] == WHOLE or r.state != "within limit"],
        paused_why=row.paused_why if paused else "",
        evidence=kept,
        too_small=[
            models.Shows(guardrail=name, enough=enough(limit))
            for name, limit in limits(workspace).items()
            if people and not could_show(people, limit)
        ],
        sources=sources(workspace, campaign, row.guard_from) if paused else [],
        providers=sorted(
            {w[1] for _, w, r in found if w[0] == "provider" and r.state == "over limit"}
            | {g.name for g in kept if g.place == "provider"}
        ),
    )


MOST_SOURCES = 4  # places of trouble that are named


def sources(workspace: Workspace, campaign: CampaignId, since: int) -> list[models.TroubleFrom]:
    """Domains and lists in which trouble is at least twice as frequent as outside them, the most telling first."""
    out = []
    for place, rows in guardrail_counts.came_from(workspace.store.read(), campaign, since).items():
        tried, bad = max((r.n for r in rows), default=0), max((r.k for r in rows), default=0)
        if place == "domain":
            tried, bad = sum(r.n for r in rows), sum(r.k for r in rows)
        for r in rows:
            rest_k, rest_n = max(0, bad - r.k), max(0, tried - r.n)
            if r.k >= FEW and r.k * max(rest_n, 1) >= 2 * max(rest_k, 1) * r.n:
                out.append(models.TroubleFrom(place=place, name=r.name, k=r.k, n=r.n, rest_k=rest_k, rest_n=rest_n))
    return sorted(out, key=lambda x: -x.k)[:MOST_SOURCES]


def without_provider(workspace: Workspace, campaign: CampaignId, provider: str, who: str) -> int:
    """Go on without the people at a provider: those who still wait are skipped, with the reason. How many."""
    row = campaigns.one(workspace.store.read(), campaign)
    if row is None or row.state != "paused":
        raise Refused("Only a paused campaign can resume without a provider.")
    names = provider_names(workspace.store.read())
    if provider not in names:
        raise Refused(f"There is no provider “{provider}”.")
    reason, now = f"resumed without {provider}", workspace.now()
    some = guardrail_counts.waiting_at(workspace.store.read(), campaign, names.index(provider))
    n = Turns(workspace.store).each(some, lambda db, part: guardrail_counts.skip(db, part, reason, now))
    again: Values = {"state": "sending", "guard_from": now + 1, "paused_why": "", "paused_evidence": "[]"}
    with workspace.store.atomic() as db:
        if not campaigns.update_in(db, campaign, ("paused",), again):
            raise Refused("Only a paused campaign can resume without a provider.")
        batch_table.recount_people(db, campaign)
        settings.log(db, workspace.now(), who, f"resumed without {provider}", row.name, n)
    return n
