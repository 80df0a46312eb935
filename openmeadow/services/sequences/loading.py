"""A sequence's row as the core knows it, and which mail a step is."""

from __future__ import annotations

import json

from openmeadow.core.errors import Missing
from openmeadow.core.sequences.definition import Definition, Step, read
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments import segments
from openmeadow.store.sequences import sequences
from openmeadow.store.sequences.records import Sequence, SequenceLine, SequenceVersion
from openmeadow.store.subscribers import fields, subscribers

PASSES = ("first", "resend", "second resend")


def row_of(workspace: Workspace, row_id: int) -> Sequence:
    """The sequence; Missing where there is none."""
    row = sequences.one(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This sequence does not exist.")
    return row


def definition_of(row: Sequence | SequenceLine | SequenceVersion) -> Definition:
    """The steps of a sequence and how it begins and ends."""
    return read(json.loads(row.definition))


def pass_of(definition: Definition, step: Step) -> tuple[int, str]:
    """The step whose mail goes out, and by which pass: a repeat is a resend of an earlier one's."""
    if step.kind != "resend":
        return step.key, "first"
    same = [s.key for s in definition.steps if s.kind == "resend" and s.of == step.of]
    return step.of, PASSES[1 + min(same.index(step.key), 1)]


def choices(workspace: Workspace) -> models.SequenceChoices:
    """What a beginning or a step can name: lists, labels, segments, purposes, fields."""
    db = workspace.store.read()
    return models.SequenceChoices(
        **{t: [r.name for r in subscribers.names(db, t)] for t in ("lists", "labels", "purposes")},
        segments=[r.name for r in segments.every(db)],
        fields=fields.names(db),
    )
