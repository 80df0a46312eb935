"""What a campaign says, version by version: changed for those who still wait, tried against each other at random."""

from __future__ import annotations

import difflib
import json
import re
from typing import Any

import numpy as np

from openmeadow.core.delivery.randomise import draw
from openmeadow.core.delivery.uplift import Lift, VariantCount, lift
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.personalisation import links, plain_text_of
from openmeadow.services.campaigns import approval, findings, preflight, templates
from openmeadow.services.campaigns.schedule import plan_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, content, deliveries

TEXTS = ("subject", "preview", "html", "plain")
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
VERSIONS, VARIANTS_SALT = 2, 71  # versions tried against each other; the lot that divides them
MOST_COMPARED = 4_000_000  # pairs of lines
_TAG = re.compile(r"(?<=>)(?=<)")


def letter(n: int) -> str:
    return LETTERS[n - 1] if n <= len(LETTERS) else str(n)


def texts_of(row: Any, values: dict[str, Any]) -> dict[str, Any]:
    """A campaign's texts with some changed; the plain text follows the HTML unless it was given."""
    out = {t: values.get(t, row[t]) for t in TEXTS} | {"blocks": values.get("blocks", row["blocks"])}
    if "html" in values and "plain" not in values and not row["plain_edited"]:
        out["plain"] = plain_text_of(values["html"]) if values["html"].strip() else ""
    return out


def _differing(a: list[str], b: list[str]) -> list[str]:
    """Lines that went and lines that came, each with its sign. Of very long texts all went and all came: comparing each
    with each would take too long."""
    if len(a) * len(b) > MOST_COMPARED:
        return [f"-{line}" for line in a] + [f"+{line}" for line in b]
    found = difflib.unified_diff(a, b, n=0, lineterm="")
    return [line for n, line in enumerate(found) if n > 1 and line[:1] in "-+"]


def differs(before: Any, after: dict[str, Any]) -> list[dict[str, Any]]:
    """What differs, part by part: {"part", "lines": [[" ", "-" or "+", text], …]}; nothing where nothing does."""
    out = []
    for part in TEXTS:
        a, b = (_TAG.sub("\n", str(x[part])).splitlines() for x in (before, after))
        if a != b:
            lines = [[d[0], d[1:][:400]] for d in _differing(a, b)]
            out.append({"part": part, "lines": lines[:200]})
    return out


def change(
    workspace: Workspace, row: Any, values: dict[str, Any], who: str, *, only_show: bool = False
) -> dict[str, Any]:
    """Another version for everybody who still waits, from within a second: {"version", "differs", "waiting", "sent"}.
    ``only_show`` says what it would be and changes nothing."""
    if row["state"] not in ("scheduled", "sending", "paused"):
        raise Refused(f"“{row['name']}” is {row['state']}: no recipients are left for another version.")
    if values.get("blocks") is not None:
        values = values | templates.rendered(workspace, values["blocks"], "plain" in values or bool(row["plain_edited"]))
    elif "html" in values and values["html"] != row["html"]:
        values = values | {"blocks": None}
    after = texts_of(row, values)
    changed = differs(row, after)
    if not changed:
        raise Refused("Nothing was changed.")
    db = workspace.store.read()
    counts = deliveries.state_counts(db, row["id"])
    waiting = counts.get("queued", 0) + counts.get("deferred", 0)
    n = max((v["n"] for v in content.versions(db, row["id"])), default=1) + 1
    said: dict[str, Any] = {"version": letter(n), "differs": changed, "waiting": waiting, "sent": counts.get("sent", 0)}
    as_row = {**dict(row), **after}
    stops = [c for c in findings.stops(preflight.checks(workspace, as_row)) if c["fix"] == "message"]
    if stops:
        raise Refused(f"{stops[0]['check']}: {stops[0]['finding']}")
    if only_show:
        return said
    plan = plan_of(row)
    with workspace.store.atomic() as w:
        for url in links(after["html"], after["plain"]):
            campaigns.add_link(w, row["message"], url)
        content.add_version(w, row["id"], n, after, who, workspace.now())
        campaigns.update(w, row["id"], after | {"version": n})
        if plan["test"] and not plan["test"].get("settled"):
            # an A/B test never puts back what was changed for those who wait: it ends, and says so
            why = "the message was changed for the remaining recipients, so the test ended"
            plan["test"] = {**plan["test"], "settled": letter(n), "why": why}
            campaigns.update(w, row["id"], {"plan": json.dumps(plan)})
            settings.log(w, workspace.now(), who, "ended the A/B test: the message was changed", row["name"])
        words = f"changed the message for the remaining recipients (version {letter(n)})"
        settings.log(w, workspace.now(), who, words, row["name"], waiting)
        if approval.needed(workspace):
            why = f"{who} changed the message. Someone else must approve it and resume."
            campaigns.update(
                w, row["id"], {"state": "paused", "paused_why": why, "asked_by": who, "asked_at": workspace.now()}
            )
    return said | {"version": letter(n)}


def keep_other(workspace: Workspace, row: Any, values: dict[str, Any], who: str) -> None:
    """The other version of a draft, to be tried against the first; an empty one is forgotten."""
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started. Its versions can no longer be changed.")
    other = content.version(workspace.store.read(), row["id"], VERSIONS)
    base = dict(other) if other is not None else dict(row)
    if values.get("blocks") is not None:
        values = values | templates.rendered(workspace, values["blocks"], "plain" in values or bool(row["plain_edited"]))
    after = texts_of(base | {"plain_edited": row["plain_edited"]}, values)
    with workspace.store.atomic() as db:
        if values.get("forget"):
            content.drop_version(db, row["id"], VERSIONS)
        else:
            content.add_version(db, row["id"], VERSIONS, after, who, workspace.now())


def divide(row: Any, subscriber: np.ndarray, lead: np.ndarray) -> np.ndarray:
    """Each person's version at the start: in the pilot batch one of two at random, as even as can be; 0 where it is the one
    in use at send."""
    out = np.zeros(len(subscriber), np.int64)
    mine = np.flatnonzero(lead)
    order = mine[np.argsort(draw(int(row["seed"]), subscriber[mine], VARIANTS_SALT), kind="stable")]
    out[order] = 1 + np.arange(len(order)) % VERSIONS
    return out


def judged(workspace: Workspace, row: Any) -> tuple[list[VariantCount], Lift] | None:
    """The versions of the pilot batch against each other by the plan's figure, second against first; None without a
    trial. Only people divided at random are compared."""
    test = plan_of(row)["test"]
    if not test or not row["message"]:
        return None
    view = workspace.view()
    people: dict[int, list[int]] = {1: [], 2: []}
    for d in deliveries.of_campaign(workspace.store.read(), row["id"], "first"):
        if d["batch_n"] == 1 and d["state"] == deliveries.SENT and d["version"] in people:
            people[d["version"]].append(d["subscriber"])
    rows = view.columns.rows
    at = rows.clicked_at if test["figure"] == "clicked" else np.minimum(rows.opened_at, rows.reacted_at)
    hit = (rows.message == row["message"]) & (at <= view.now)
    engaged = view.columns.people.id[rows.person[hit]]
    counts = [
        VariantCount(f"Version {letter(n)}", len(mine), int(np.isin(engaged, mine).sum())) for n, mine in people.items()
    ]
    return counts, lift(counts[1], counts[0])


def settle(workspace: Workspace, row: Any) -> str:
    """When the rest is due: the better version at random goes to it, or the plan waits for the analyst's pick. Returns a
    sentence where the plan has to be held, "" where it goes on."""
    test, seen = plan_of(row)["test"], judged(workspace, row)
    if not test or test.get("settled") or seen is None:
        return ""
    (first, second), found = seen
    rates = ", ".join(f"{c.variant} {c.engaged:,} of {c.people:,}" for c in (first, second))
    if test.get("pick") == "by hand":
        return f"The A/B test waits for your choice: {test['figure']} {rates}."
    better = 2 if found.verdict == "yes" else 1
    why = {"yes": "did better", "harm": "did worse", "not significant": "no significant difference"}[found.verdict]
    use(workspace, row, better, "worker", f"{rates}; version B {why}")
    return ""


def use(workspace: Workspace, row: Any, n: int, who: str, why: str) -> None:
    """Use a version for everybody who still waits."""
    version = content.version(workspace.store.read(), row["id"], n)
    if version is None:
        raise Missing(f"Version {letter(n)} does not exist.")
    plan = plan_of(row)
    if plan["test"]:
        plan["test"] = {**plan["test"], "settled": letter(n), "why": why}
    with workspace.store.atomic() as db:
        texts = {t: version[t] for t in (*TEXTS, "blocks")}
        campaigns.update(db, row["id"], texts | {"version": n, "plan": json.dumps(plan)})
        settings.log(
            db, workspace.now(), who, f"used version {letter(n)} for the remaining recipients: {why}", row["name"]
        )
