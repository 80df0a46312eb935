"""Sources: by which list, form or import people came, and what became of them, beside the others."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import I64, NEVER, Mask
from openmeadow.core.columns import Trouble
from openmeadow.core.engagement.bands import BANDS, MASKED
from openmeadow.core.engagement.bot_detection import BY_OF_REASON, MACHINE, REASONS, UNSURE
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.statistics import newcombe
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import sources as table
from openmeadow.store.subscribers.subscribers import people_version

SIGNS = {
    "bounced": "Higher hard-bounce rate than other sources",
    "complained": "Higher complaint rate than other sources",
    "left": "Higher unsubscribe rate than other sources",
    "never_engaged": "More people who never engaged than other sources",
}


def _sign(kind: str, mine: int, base: int, theirs: int, their_base: int) -> str | None:
    """A sentence when the share is higher than elsewhere beyond doubt (95% interval of the difference)."""
    if not base or not their_base or newcombe(mine, base, theirs, their_base).low <= 0:
        return None
    a, b = mine / base, theirs / their_base
    return f"{SIGNS[kind]}: {a:.1%} of {base:,}, others {b:.1%} of {their_base:,}."


def every(workspace: Workspace) -> list[models.SourceFigures]:
    """Every source and every import with what became of its people; ``mailed`` is the base of what became of them."""
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    alive, troubles = view.alive, workspace.troubles()
    count = len(alive)
    mailed = np.zeros(count, bool)
    for part in view.parts():
        rows = part.columns.rows
        mailed[part.everybodys(rows.person[rows.first_at <= view.now])] = True

    def had(*what: Trouble) -> Mask:
        out = np.zeros(count, bool)
        out[troubles.person[np.isin(troubles.what, what) & (troubles.at <= view.now)]] = True
        return out

    fates = {
        "engaged": view.last_engaged > NEVER,
        "bounced": had(Trouble.HARD),
        "complained": had(Trouble.COMPLAINED),
        "left": had(Trouble.UNSUBSCRIBED),
        "never_engaged": (view.last_engaged == NEVER) & (view.scores.ignored >= 5),
    }
    joined = view.columns.people.joined_at
    out = []
    for kind, names, of in _groups(workspace, view.facts):
        for number, name in names.items():
            mine = alive & (of == number)
            if not mine.any():
                continue
            base, others = mine & mailed, alive & ~mine & mailed
            told = {fate: int((base & mask).sum()) for fate, mask in fates.items()}
            signs = (_sign(k, told[k], int(base.sum()), int((others & fates[k]).sum()), int(others.sum())) for k in SIGNS)
            out.append(
                models.SourceFigures(
                    kind=kind,
                    name=name,
                    people=int(mine.sum()),
                    mailed=int(base.sum()),
                    first=int(joined[mine].min()),
                    last=int(joined[mine].max()),
                    **told,
                    bands=np.bincount(view.scores.band[mine], minlength=len(BANDS)).tolist(),
                    signs=[s for s in signs if s],
                    rule=f'source is "{name.replace(chr(34), chr(34) * 2)}"' if kind == "source" else "",
                )
            )
    return sorted(out, key=lambda d: (d.kind != "source", -d.people))


class _Brought:
    """Whom each import brought, kept until people change."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.kept: tuple[int, tuple[I64, I64]] | None = None

    def see(self) -> tuple[I64, I64]:
        db = self.workspace.store.read()
        version = people_version(db)
        if self.kept is None or self.kept[0] != version:
            self.kept = (version, table.brought_by(db))
        return self.kept[1]


def _groups(workspace: Workspace, facts: StoreFacts) -> list[tuple[str, dict[int, str], I64]]:
    db = workspace.store.read()
    imports, of = table.imports(db), np.zeros(len(facts.ids), np.int64)
    row_id, action = workspace.part(_Brought).see()
    of[np.searchsorted(facts.ids, row_id)] = action
    return [("source", table.names(db), facts.source.astype(np.int64)), ("import", imports, of)]


def machine_opens(workspace: Workspace, days: int = 90) -> models.MachineOpens:
    """How much of each provider's opens and clicks are machines', and why they are taken for that."""
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    acts, since = view.settled.acts, view.now - days * DAY
    recent = (acts.at > since) & (acts.at <= view.now) & ((acts.kind == Kind.OPENED) | (acts.kind == Kind.CLICKED))
    provider = view.facts.provider[acts.person[recent]].astype(np.int64)
    names = provider_names(workspace.store.read())
    tally = np.zeros((len(names), 2, len(REASONS)), np.int64)
    np.add.at(tally, (provider, (acts.kind[recent] == Kind.CLICKED).astype(np.int64), acts.why[recent]), 1)
    masked = np.bincount(view.facts.provider[view.alive & (view.scores.band == MASKED)], minlength=len(names))

    def shares(counts: I64) -> models.Shares:
        by = BY_OF_REASON
        return models.Shares(
            all=int(counts.sum()), machines=int(counts[by == MACHINE].sum()), unsure=int(counts[by == UNSURE].sum())
        )

    return models.MachineOpens(
        days=days,
        as_of=view.now,
        listed=len(workspace.machines().agents) + len(workspace.machines().networks),
        providers=[
            models.ProviderOpens(
                name=name,
                opens=shares(tally[n, 0]),
                clicks=shares(tally[n, 1]),
                masked=int(masked[n]),
                people=int((view.alive & (view.facts.provider == n)).sum()),
            )
            for n, name in enumerate(names)
            if name
        ],
        reasons=[
            models.Reason(
                words=words,
                opens=int(tally[:, 0, n].sum()),
                clicks=int(tally[:, 1, n].sum()),
                machine=bool(BY_OF_REASON[n] == MACHINE),
            )
            for n, words in enumerate(REASONS)
        ],
    )
