"""What this workspace's own mailings say of a subject line."""

from __future__ import annotations

from openmeadow.core.message.subjects import Mailed, compared
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.engagement import chance_models


def of(workspace: Workspace, subject: str) -> models.SubjectPast:
    """Each trait of a subject that the settled campaigns can be divided by; how many of them there are."""
    db = workspace.store.read()
    known = {m.message: m for m in chance_models.mailings(db)}
    past = [
        Mailed(c.subject, known[c.message].observed / known[c.message].expected)
        for c in campaigns.started(db)
        if c.subject and c.message in known and known[c.message].expected > 0 and known[c.message].observed
    ]
    lines = [
        models.SubjectTrait(
            trait=x.trait, mailings=x.mailings, others=x.others, times=x.times, low=x.low, high=x.high, shown=x.shown
        )
        for x in compared(subject, past)
    ]
    return models.SubjectPast(traits=lines, mailings=len(past))
