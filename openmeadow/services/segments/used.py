"""Where a name is used: in rules of segments and sequences, in messages and what they show to whom."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection

from openmeadow.core.errors import RuleMistake
from openmeadow.core.message.personalisation import rules_in
from openmeadow.core.rules.conditions import Rule, walk
from openmeadow.core.rules.parser import parse
from openmeadow.services.sequences.loading import definition_of
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.segments import segments
from openmeadow.store.sequences import sequences


def nothing(_: str) -> bool:
    """No text uses it."""
    return False


def by(
    workspace: Workspace,
    clause: Callable[[Rule], bool],
    text: Callable[[str], bool] = nothing,
    begins: Collection[tuple[str, str]] = (),
    act: tuple[str, str] = ("", ""),
) -> list[str]:
    """Who uses it, in words. ``clause`` knows it in a rule, ``text`` in a message; ``begins`` is how a sequence begins with
    it, ``act`` the kind and name of a step that does something with it."""
    db = workspace.store.read()

    def named_in(*rules: str) -> bool:
        for rule in rules:
            with contextlib.suppress(RuleMistake):
                if any(clause(part) for part in walk(parse(rule))):
                    return True
        return False

    found = [f"the segment “{s.name}”" for s in segments.every(db) if named_in(s.rule)]
    for c in campaigns.not_over(db):
        said = (c.subject, c.preview, c.html, c.plain)
        if named_in(*(r for t in said for r in rules_in(t))):
            found.append(f"a part of “{c.name}”")
        elif any(text(t) for t in said):
            found.append(f"the message of “{c.name}”")
    for q in sequences.every(db):
        d = definition_of(q)
        wanted = {(on, what.lower()) for on, what in begins}
        in_steps = named_in(d.leave.rule, *(s.rule for s in d.steps)) or any((s.kind, s.name) == act for s in d.steps)
        if q.state != "ended" and ((d.begin.on, d.begin.what.lower()) in wanted or in_steps):
            found.append(f"the sequence “{q.name}”")
    return found


def texts(workspace: Workspace, text: Callable[[str], bool]) -> list[str]:
    """The campaigns that are not over and whose message uses it."""
    rows = campaigns.not_over(workspace.store.read())
    return [f"“{c.name}”" for c in rows if any(text(t) for t in (c.subject, c.preview, c.html, c.plain))]
