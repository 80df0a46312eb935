"""The clean-up: where somebody who stopped stands, and what comes next (1-product: clean up, never silently).

Pure: who is due is told by masks, what happens next by one function a person.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.columns import DAY, NEVER, Kind, Mask
from openmeadow.core.engagement.score import SILENT, VEILED
from openmeadow.core.errors import Refused
from openmeadow.core.rules.tree import View

BEGIN, ASK_FOR_CLICK, AGAIN, LET_GO, ANSWERED, NOT_PERMITTED, WAIT = (
    "first try",
    "asked for a click",
    "another try",
    "let go",
    "answered",
    "not permitted any more",
    "waiting",
)


@dataclass(frozen=True)
class Agreement:
    """What happens to people who stop: after ``after_days`` without an answer, ``tries`` win-backs ``wait_days``
    apart, then let go. ``by_itself`` runs it every week without asking."""

    after_days: int = 180
    tries: int = 2
    wait_days: int = 14
    ask_veiled: bool = True
    by_itself: bool = False

    def __post_init__(self) -> None:
        for ok, words in (
            (30 <= self.after_days <= 365 and self.after_days % 5 == 0, "Begin after 30 to 365 days, in steps of five."),
            (1 <= self.tries <= 5, "There are one to five tries; nobody is let go without one."),
            (3 <= self.wait_days <= 90, "Wait 3 to 90 days between tries and before letting go."),
        ):
            if not ok:
                raise Refused(words)


@dataclass(frozen=True)
class Stay:
    """Somebody in the clean-up: since when, tries so far, when the next step is due."""

    began_at: int
    tries: int
    next_at: int


def stopped(view: View, agreement: Agreement) -> tuple[Mask, Mask]:
    """(Silent, Veiled) people whose last answer, or joining where they never answered, is long enough ago."""
    last = np.where(view.last_answer == NEVER, view.columns.people.joined_at, view.last_answer)
    long_ago = view.alive & (last <= view.now - agreement.after_days * DAY)
    band = view.scores.band
    return np.asarray(long_ago & (band == SILENT)), np.asarray(long_ago & (band == VEILED))


def never_let_go(view: View) -> Mask:
    """Whoever has booked or replied, ever: they are here without reading."""
    acts = view.columns.acts
    hit = ((acts.kind == Kind.BOOKED) | (acts.kind == Kind.REPLIED)) & (acts.at <= view.now)
    out = np.zeros(len(view.alive), bool)
    out[acts.person[hit]] = True
    return out


def next_step(stay: Stay, last_answer: int, protected: bool, permitted: bool, agreement: Agreement, now: int) -> str:
    """What comes next for somebody inside. An answer wins over everything due at the same moment; nobody is let go
    who was not tried as often as agreed."""
    if last_answer > stay.began_at or protected:
        return ANSWERED
    if not permitted:
        return NOT_PERMITTED
    if now < stay.next_at:
        return WAIT
    return AGAIN if stay.tries < agreement.tries else LET_GO


def due_at(stay: Stay, agreement: Agreement) -> int:
    """When somebody inside would be let go if they stay silent."""
    return stay.next_at + (agreement.tries - stay.tries) * agreement.wait_days * DAY
