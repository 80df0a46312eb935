"""What a campaign says, version by version: changed for those who still wait, tried against each other by lot."""

from __future__ import annotations

import difflib
import json
import re
from typing import Any

import numpy as np

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.lot import draw
from openmeadow.core.message.body import links, twin
from openmeadow.core.resend.lift import ArmCount, Lift, lift
from openmeadow.desk import approving, checking, templates
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import plan_of
from openmeadow.store import campaigns, ledger, workspace, writing

TEXTS = ("subject", "preview", "html", "plain")
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
VERSIONS, ARMS_LOT = 2, 71  # versions tried against each other; the lot that divides them
MOST_COMPARED = 4_000_000  # pairs of lines
_TAG = re.compile(r"(?<=>)(?=<)")


def letter(n: int) -> str:
    return LETTERS[n - 1] if n <= len(LETTERS) else str(n)


def texts_of(row: Any, values: dict[str, Any]) -> dict[str, Any]:
    """A campaign's texts with some changed; the twin follows the HTML unless it was given."""
    out = {t: values.get(t, row[t]) for t in TEXTS} | {"blocks": values.get("blocks", row["blocks"])}
    if "html" in values and "plain" not in values and not row["plain_by_hand"]:
        out["plain"] = twin(values["html"]) if values["html"].strip() else ""
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


def change(desk: Desk, row: Any, values: dict[str, Any], who: str, *, only_show: bool = False) -> dict[str, Any]:
    """Another version for everybody who still waits, from within a second: {"version", "differs", "waiting", "handed"}.
    ``only_show`` says what it would be and changes nothing."""
    if row["state"] not in ("planned", "sending", "held"):
        raise Refused(f"“{row['name']}” is {row['state']}: nobody waits for another version.")
    if values.get("blocks") is not None:
        values = values | templates.rendered(desk, values["blocks"], "plain" in values or bool(row["plain_by_hand"]))
    elif "html" in values and values["html"] != row["html"]:
        values = values | {"blocks": None}
    after = texts_of(row, values)
    changed = differs(row, after)
    if not changed:
        raise Refused("Nothing is different.")
    db = desk.store.read()
    counts = ledger.state_counts(db, row["id"])
    waiting = counts.get("waiting", 0) + counts.get("deferred", 0)
    n = max((v["n"] for v in writing.versions(db, row["id"])), default=1) + 1
    said: dict[str, Any] = {
        "version": letter(n),
        "differs": changed,
        "waiting": waiting,
        "handed": counts.get("handed over", 0),
    }
    as_row = {**dict(row), **after}
    stops = [c for c in checking.stops(checking.checks(desk, as_row)) if c["mend"] == "message"]
    if stops:
        raise Refused(f"{stops[0]['check']}: {stops[0]['finding']}")
    if only_show:
        return said
    plan = plan_of(row)
    with desk.store.atomic() as w:
        for url in links(after["html"], after["plain"]):
            campaigns.add_link(w, row["message"], url)
        writing.add_version(w, row["id"], n, after, who, desk.now())
        campaigns.update(w, row["id"], after | {"version": n})
        if plan["test"] and not plan["test"].get("settled"):
            # an A/B test never puts back what was changed for those who wait: it ends, and says so
            why = "the message was changed for those who still wait, so the test ended and neither version goes to them"
            plan["test"] = {**plan["test"], "settled": letter(n), "why": why}
            campaigns.update(w, row["id"], {"plan": json.dumps(plan)})
            workspace.log(w, desk.now(), who, "ended the A/B test: the message was changed", row["name"])
        words = f"changed the message for those who wait (version {letter(n)})"
        workspace.log(w, desk.now(), who, words, row["name"], waiting)
        if approving.needed(desk):
            why = f"{who} changed the message; somebody else must look at it and go on."
            campaigns.update(w, row["id"], {"state": "held", "held_why": why, "asked_by": who, "asked_at": desk.now()})
    return said | {"version": letter(n)}


def keep_other(desk: Desk, row: Any, values: dict[str, Any], who: str) -> None:
    """The other version of a draft, to be tried against the first; an empty one is forgotten."""
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started; its versions can no longer be chosen.")
    other = writing.version(desk.store.read(), row["id"], VERSIONS)
    base = dict(other) if other is not None else dict(row)
    if values.get("blocks") is not None:
        values = values | templates.rendered(desk, values["blocks"], "plain" in values or bool(row["plain_by_hand"]))
    after = texts_of(base | {"plain_by_hand": row["plain_by_hand"]}, values)
    with desk.store.atomic() as db:
        if values.get("forget"):
            writing.drop_version(db, row["id"], VERSIONS)
        else:
            writing.add_version(db, row["id"], VERSIONS, after, who, desk.now())


def divide(row: Any, subscriber: np.ndarray, lead: np.ndarray) -> np.ndarray:
    """Each person's version at the start: in the lead batch one of two by lot, as even as can be; 0 where it is the one
    in use at hand-over."""
    out = np.zeros(len(subscriber), np.int64)
    mine = np.flatnonzero(lead)
    order = mine[np.argsort(draw(int(row["seed"]), subscriber[mine], ARMS_LOT), kind="stable")]
    out[order] = 1 + np.arange(len(order)) % VERSIONS
    return out


def judged(desk: Desk, row: Any) -> tuple[list[ArmCount], Lift] | None:
    """The versions of the lead batch against each other by the plan's figure, second against first; None without a
    trial. Only people divided by lot are compared."""
    test = plan_of(row)["test"]
    if not test or not row["message"]:
        return None
    view = desk.view()
    people: dict[int, list[int]] = {1: [], 2: []}
    for d in ledger.of_campaign(desk.store.read(), row["id"], "first"):
        if d["batch_n"] == 1 and d["state"] == ledger.HANDED and d["version"] in people:
            people[d["version"]].append(d["subscriber"])
    rows = view.columns.rows
    at = rows.clicked_at if test["figure"] == "clicked" else np.minimum(rows.opened_at, rows.reacted_at)
    hit = (rows.message == row["message"]) & (at <= view.now)
    answered = view.columns.people.id[rows.person[hit]]
    counts = [
        ArmCount(f"Version {letter(n)}", len(mine), int(np.isin(answered, mine).sum())) for n, mine in people.items()
    ]
    return counts, lift(counts[1], counts[0])


def settle(desk: Desk, row: Any) -> str:
    """When the rest is due: the better version by lot goes to it, or the plan waits for the analyst's pick. Returns a
    sentence where the plan has to be held, "" where it goes on."""
    test, seen = plan_of(row)["test"], judged(desk, row)
    if not test or test.get("settled") or seen is None:
        return ""
    (first, second), found = seen
    rates = ", ".join(f"{c.arm} {c.answered:,} of {c.people:,}" for c in (first, second))
    if test.get("pick") == "by hand":
        return f"The versions wait for your pick: {test['figure']} {rates}."
    better = 2 if found.verdict == "yes" else 1
    why = {"yes": "did better", "harm": "did worse", "not shown": "no difference shown"}[found.verdict]
    use(desk, row, better, "worker", f"{rates}; version B {why}")
    return ""


def use(desk: Desk, row: Any, n: int, who: str, why: str) -> None:
    """Use a version for everybody who still waits."""
    version = writing.version(desk.store.read(), row["id"], n)
    if version is None:
        raise Missing(f"There is no version {letter(n)}.")
    plan = plan_of(row)
    if plan["test"]:
        plan["test"] = {**plan["test"], "settled": letter(n), "why": why}
    with desk.store.atomic() as db:
        texts = {t: version[t] for t in (*TEXTS, "blocks")}
        campaigns.update(db, row["id"], texts | {"version": n, "plan": json.dumps(plan)})
        workspace.log(db, desk.now(), who, f"uses version {letter(n)} for the rest: {why}", row["name"])
