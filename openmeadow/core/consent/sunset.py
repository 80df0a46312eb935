"""The sunset policy: where somebody who stopped stands, and what comes next.

Pure: who is due is told by masks, what happens next by one function a person.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import NEVER, Mask
from openmeadow.core.engagement.bands import INACTIVE, MASKED, UNPROVEN
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View

BEGIN, ASK_FOR_CLICK, AGAIN, SUPPRESS, ENGAGED, NOT_PERMITTED, WAIT = (
    "first win-back",
    "click request",
    "further win-back",
    "suppress",
    "engaged",
    "no longer permitted",
    "waiting",
)
OUTCOMES = {SUPPRESS: "suppressed", ENGAGED: "engaged", NOT_PERMITTED: "no longer permitted"}  # how it ended


@dataclass(frozen=True)
class Agreement:
    """What happens to people who stop: after ``after_days`` without an answer, ``tries`` win-backs ``wait_days``
    apart, then suppressed. ``automatic`` runs it every week without asking."""

    after_days: int = 180
    tries: int = 2
    wait_days: int = 14
    ask_masked: bool = True
    automatic: bool = False

    def __post_init__(self) -> None:
        for ok, words in (
            (30 <= self.after_days <= 365 and self.after_days % 5 == 0, "Start after 30 to 365 days, in steps of five."),
            (1 <= self.tries <= 5, "Send one to five win-back emails; no one is suppressed without one."),
            (3 <= self.wait_days <= 90, "Wait 3 to 90 days between win-back emails and before suppression."),
        ):
            if not ok:
                raise Refused(words)


@dataclass(frozen=True)
class Enrolment:
    """Somebody in the sunset policy: since when, tries so far, when the next step is due."""

    began_at: int
    tries: int
    next_at: int


def stopped(view: View, agreement: Agreement) -> tuple[Mask, Mask]:
    """(Inactive, Masked) people whose last engagement, or joining where they never engaged, is long enough ago."""
    last = np.where(view.last_engaged == NEVER, view.columns.people.joined_at, view.last_engaged)
    long_ago = view.alive & (last <= view.now - agreement.after_days * DAY)
    band = view.scores.band
    return np.asarray(long_ago & (band == INACTIVE)), np.asarray(long_ago & (band == MASKED))


SPARED = ("Unproven", "Masked", "booked")


def spared(view: View, booked_since: int) -> dict[str, Mask]:
    """Whom acts that stop mailing leave out unless they are ticked in: those about whom too little is known, whose reading cannot
    be seen, and who booked since a moment. Each stands in the first group that fits."""
    band = view.scores.band
    booked = np.zeros(len(view.alive), bool)
    for part in view.parts():
        acts = part.columns.acts
        hit = (acts.kind == Kind.BOOKED) & (acts.at <= view.now) & (acts.at > booked_since)
        booked[part.everybodys(acts.person[hit & part.counts(acts.person)])] = True
    unproven, masked = band == UNPROVEN, band == MASKED
    return {"Unproven": unproven, "Masked": masked, "booked": booked & ~unproven & ~masked}


def protected_people(view: View) -> Mask:
    """Who has booked or replied, ever: they are here without reading."""
    out = np.zeros(len(view.alive), bool)
    for part in view.parts():
        acts = part.columns.acts
        hit = ((acts.kind == Kind.BOOKED) | (acts.kind == Kind.REPLIED)) & (acts.at <= view.now)
        out[part.everybodys(acts.person[hit])] = True
    return out


def next_step(
    enrolment: Enrolment, last_engaged: int, protected: bool, permitted: bool, agreement: Agreement, now: int
) -> str:
    """What comes next for somebody inside. An answer wins over everything due at the same moment; no one is suppressed
    who was not tried as often as agreed."""
    if last_engaged > enrolment.began_at or protected:
        return ENGAGED
    if not permitted:
        return NOT_PERMITTED
    if now < enrolment.next_at:
        return WAIT
    return AGAIN if enrolment.tries < agreement.tries else SUPPRESS


def due_at(enrolment: Enrolment, agreement: Agreement) -> int:
    """When somebody inside would be suppressed if they do not engage."""
    return enrolment.next_at + (agreement.tries - enrolment.tries) * agreement.wait_days * DAY
