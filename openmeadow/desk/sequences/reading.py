"""A sequence's row as the core knows it, and which mail a step is."""

from __future__ import annotations

import json
from typing import Any

from openmeadow.core.errors import Missing
from openmeadow.core.sequences.ladder import Ladder, Step, read
from openmeadow.desk.desk import Desk
from openmeadow.store import segments, sequences, subscribers

PASSES = ("first", "resend", "second resend")


def row_of(desk: Desk, id: int) -> Any:
    row = sequences.one(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such sequence.")
    return row


def ladder_of(row: Any) -> Ladder:
    return read(json.loads(row["ladder"]))


def pass_of(ladder: Ladder, step: Step) -> tuple[int, str]:
    """The step whose mail goes out, and by which pass: a repeat is a resend of an earlier one's."""
    if step.kind != "repeat":
        return step.key, "first"
    same = [s.key for s in ladder.steps if s.kind == "repeat" and s.of == step.of]
    return step.of, PASSES[1 + min(same.index(step.key), 1)]


def choices(desk: Desk) -> dict[str, list[str]]:
    """What a beginning or a step can name: lists, labels, segments, purposes, fields."""
    db = desk.store.read()
    return {
        **{t: [r["name"] for r in subscribers.names(db, t)] for t in ("lists", "labels", "purposes")},
        "segments": [r["name"] for r in segments.every(db)],
        "fields": subscribers.field_names(db),
    }
