"""What a campaign says, version by version: changed for those who still wait, tried against each other at random."""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping
from dataclasses import asdict, replace

import numpy as np

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.delivery.uplift import Lift, VariantCount, lift
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import NO_MESSAGE
from openmeadow.core.message.personalisation import links, plain_text_of
from openmeadow.core.states import UNDER_WAY, CampaignState, DeliveryState
from openmeadow.services import models
from openmeadow.services.campaigns import approval, findings, preflight, templates
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, content, deliveries, delivery_columns
from openmeadow.store.campaigns.records import Campaign, Texts

TEXTS = ("subject", "preview", "html", "plain")
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
VERSIONS, VARIANTS_SALT = 2, 71  # versions tried against each other; the lot that divides them
MOST_COMPARED = 4_000_000  # pairs of lines
LONGEST_LINE, MOST_LINES = 400, 200  # shown of what differs
_TAG = re.compile(r"(?<=>)(?=<)")


def letter(n: int) -> str:
    """A version's letter: 1 is A."""
    return LETTERS[n - 1] if n <= len(LETTERS) else str(n)


def texts_of(texts: Texts, values: Mapping[str, str | None], *, plain_edited: bool) -> Texts:
    """A campaign's texts with some changed; the plain text follows the HTML unless it was given."""
    changed = {k: v for k, v in values.items() if k in (*TEXTS, "blocks")}
    if "html" in values and "plain" not in values and not plain_edited:
        html = str(values["html"])
        changed["plain"] = plain_text_of(html) if html.strip() else ""
    return Texts(**(asdict(texts) | changed))


def _texts_in(workspace: Workspace, row: Campaign, body: models.ChangeIn) -> dict[str, str | None]:
    """The texts that a request changes; blocks become HTML, and HTML that is written puts an end to blocks."""
    values: dict[str, str | None] = {t: v for t in TEXTS if (v := getattr(body, t)) is not None}
    if body.blocks is not None:
        return values | templates.rendered(workspace, body.blocks, "plain" in values or row.plain_edited)
    return values | {"blocks": None} if "html" in values and values["html"] != row.html else values


def _differing(a: list[str], b: list[str]) -> list[str]:
    """Lines that went and lines that came, each with its sign. Of very long texts all went and all came: comparing each
    with each would take too long."""
    if len(a) * len(b) > MOST_COMPARED:
        return [f"-{line}" for line in a] + [f"+{line}" for line in b]
    found = difflib.unified_diff(a, b, n=0, lineterm="")
    return [line for n, line in enumerate(found) if n > 1 and line[:1] in "-+"]


def differs(before: Texts, after: Texts) -> list[models.Differs]:
    """What differs, part by part; nothing where nothing does."""
    out = []
    for part in TEXTS:
        a, b = (_TAG.sub("\n", str(getattr(x, part))).splitlines() for x in (before, after))
        if a != b:
            lines = [[d[0], d[1:][:LONGEST_LINE]] for d in _differing(a, b)]
            out.append(models.Differs(part=part, lines=lines[:MOST_LINES]))
    return out


def change(workspace: Workspace, row: Campaign, body: models.ChangeIn, who: str) -> models.Changed:
    """Another version for everybody who still waits, from within a second. ``only_show`` says what it would be and
    changes nothing."""
    if row.state not in UNDER_WAY:
        raise Refused(f"“{row.name}” is {row.state}: no recipients are left for another version.")
    values = _texts_in(workspace, row, body)
    before = Texts.of(row)
    after = texts_of(before, values, plain_edited=row.plain_edited)
    found = differs(before, after)
    if not found:
        raise Refused("Nothing was changed.")
    db = workspace.store.read()
    counts = deliveries.state_counts(db, row.id)
    waiting = counts.get(DeliveryState.QUEUED, 0) + counts.get(DeliveryState.DEFERRED, 0)
    n = max((v.n for v in content.versions(db, row.id)), default=1) + 1
    said = models.Changed(version=letter(n), differs=found, waiting=waiting, sent=counts.get(DeliveryState.SENT, 0))
    stops = [c for c in findings.stops(preflight.checks(workspace, replace(row, **asdict(after)))) if c.fix == "message"]
    if stops:
        raise Refused(f"{stops[0].check}: {stops[0].finding}")
    if not body.only_show:
        _save(workspace, row, n, after, who, waiting)
    return said


def _save(workspace: Workspace, row: Campaign, n: int, after: Texts, who: str, waiting: int) -> None:
    with workspace.store.atomic() as w:
        for url in links(after.html, after.plain):
            campaigns.add_link(w, (row.message or NO_MESSAGE), url)
        content.add_version(w, row.id, n, after, who, workspace.now())
        campaigns.update(w, row.id, asdict(after) | {"version": n})
        if row.plan.test and not row.plan.test.settled:
            # an A/B test never puts back what was changed for those who wait: it ends, and says so
            why = "the message was changed for the remaining recipients, so the test ended"
            campaigns.update(w, row.id, {"plan": _settled(row.plan, n, why).model_dump_json()})
            settings.log(w, workspace.now(), who, "ended the A/B test: the message was changed", row.name)
        words = f"changed the message for the remaining recipients (version {letter(n)})"
        settings.log(w, workspace.now(), who, words, row.name, waiting)
        if approval.needed(workspace):
            why = f"{who} changed the message. Someone else must approve it and resume."
            now = workspace.now()
            campaigns.update(
                w, row.id, {"state": CampaignState.PAUSED, "paused_why": why, "asked_by": who, "asked_at": now}
            )


def _settled(plan: Plan, n: int, why: str) -> Plan:
    return plan if plan.test is None else plan.changed(test=plan.test.model_dump() | {"settled": letter(n), "why": why})


def keep_other(workspace: Workspace, row: Campaign, body: models.ChangeIn, who: str) -> None:
    """The other version of a draft, to be tried against the first; ``forget`` drops it."""
    if row.state != CampaignState.DRAFT:
        raise Refused(f"“{row.name}” has started. Its versions can no longer be changed.")
    other = content.version(workspace.store.read(), row.id, VERSIONS)
    values = _texts_in(workspace, row, body)
    after = texts_of(Texts.of(row if other is None else other), values, plain_edited=row.plain_edited)
    with workspace.store.atomic() as db:
        if body.forget:
            content.drop_version(db, row.id, VERSIONS)
        else:
            content.add_version(db, row.id, VERSIONS, after, who, workspace.now())


def divide(row: Campaign, subscriber: np.ndarray, lead: np.ndarray) -> np.ndarray:
    """Each person's version at the start: in the pilot batch one of two at random, as even as can be; 0 where it is the one
    in use at send."""
    out = np.zeros(len(subscriber), np.int64)
    mine = np.flatnonzero(lead)
    order = mine[np.argsort(draw(row.seed, subscriber[mine], VARIANTS_SALT), kind="stable")]
    out[order] = 1 + np.arange(len(order)) % VERSIONS
    return out


def judged(workspace: Workspace, row: Campaign) -> tuple[list[VariantCount], Lift] | None:
    """The versions of the pilot batch against each other by the plan's figure, second against first; None without a
    trial. Only people divided at random are compared."""
    test = row.plan.test
    if not test or not row.message:
        return None
    view = workspace.view()
    d = delivery_columns.of_campaign(workspace.store.read, row.id, "first")
    pilot = (d.batch_n == 1) & d.is_in(DeliveryState.SENT)
    people = {n: d.subscriber[pilot & (d.version == n)] for n in (1, 2)}
    rows = view.rows_of(row.message)
    at = rows.clicked_at if test.figure == "clicked" else np.minimum(rows.opened_at, rows.reacted_at)
    hit = at <= view.now
    engaged = view.columns.people.id[rows.person[hit]]
    counts = [
        VariantCount(f"Version {letter(n)}", len(mine), int(np.isin(engaged, mine).sum())) for n, mine in people.items()
    ]
    return counts, lift(counts[1], counts[0])


def settle(workspace: Workspace, row: Campaign) -> str:
    """When the rest is due: the better version at random goes to it, or the plan waits for the analyst's pick. Returns a
    sentence where the plan has to be held, "" where it goes on."""
    test, seen = row.plan.test, judged(workspace, row)
    if not test or test.settled or seen is None:
        return ""
    (first, second), found = seen
    rates = ", ".join(f"{c.variant} {c.engaged:,} of {c.people:,}" for c in (first, second))
    if test.pick == "by hand":
        return f"The A/B test waits for your choice: {test.figure} {rates}."
    better = 2 if found.verdict == "yes" else 1
    why = {"yes": "B did better", "harm": "B did worse", "not significant": "no significant difference"}[found.verdict]
    use(workspace, row, better, "worker", f"{rates}; {why}")
    return ""


def use(workspace: Workspace, row: Campaign, n: int, who: str, why: str) -> None:
    """Use a version for everybody who still waits."""
    version = content.version(workspace.store.read(), row.id, n)
    if version is None:
        raise Missing(f"Version {letter(n)} does not exist.")
    plan = _settled(row.plan, n, why).model_dump_json()
    with workspace.store.atomic() as db:
        campaigns.update(db, row.id, asdict(Texts.of(version)) | {"version": n, "plan": plan})
        words = f"used version {letter(n)} for the remaining recipients: {why}"
        settings.log(db, workspace.now(), who, words, row.name)
