"""What rules and the eligibility check ask of the store; what the eligibility check asks besides: messages lately,
pauses, relations."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from openmeadow.core.arrays import I32, Mask
from openmeadow.core.consent.eligibility import GIVEN, PENDING, Answer, Standing, ask
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.store import settings
from openmeadow.store.bulk import read_columns
from openmeadow.store.segments.segment_facts import RuleFacts
from openmeadow.store.subscribers import consent as consent_table


class StoreFacts(RuleFacts):
    """``Facts`` of the rules, and where people stand for the eligibility check."""

    def sent_since(self, *seconds: int) -> list[I32]:
        """How many passes each person was sent in the last so many seconds, for each of some spans; read once."""
        subscriber, at = read_columns(
            self.db,
            "SELECT subscriber, at FROM events WHERE kind = 1 AND at > ? AND at <= ?" + self.among(),
            (self.now - max(seconds), self.now),
            "qq",
        )
        place, here = self.place_of(subscriber)
        within = (here & (at > self.now - s) for s in seconds)
        return [np.bincount(place[w], minlength=len(self.ids)).astype(np.int32) for w in within]

    def standing(
        self, purpose: str, *, limits: bool, asking: bool = False, sequences: bool = False, service: bool = False
    ) -> Standing:
        """Where everybody stands for a purpose; ``asking`` adds what only a consent request needs, ``service`` what
        only a service message does, ``sequences`` who is inside one."""
        nobody = np.zeros(len(self.ids), bool)
        none = np.zeros(len(self.ids), np.int32)
        in_a_day, in_a_week = self.sent_since(DAY, 7 * DAY) if limits else (none, none)
        return Standing(
            self.erased,
            self.suppressed(),
            self.consent(purpose),
            self.paused(),
            self.in_any_sequence() if sequences else nobody,
            in_a_day,
            in_a_week,
            self.had_their_fill() if limits else nobody,
            self.related() if asking else self.served(purpose) if service else nobody,
            self.asked_before() if asking else nobody,
            np.asarray(self.verdicts() == 0) if settings.setting(self.db, "require_address_check") else nobody,
            int(settings.setting(self.db, "most_a_day")),
            int(settings.setting(self.db, "most_a_week")),
        )

    def related(self) -> Mask:
        """To whom a prior relation is on record: a booking, a consent given to anything, or one that was stated."""
        booked = self._mask(
            f"SELECT DISTINCT subscriber FROM events INDEXED BY events_of_booking WHERE kind = {int(Kind.BOOKED)} "
            f"AND at <= ?{self.among()}",
            (self.now,),
        )
        out = booked | self._mask(f"SELECT subscriber FROM relations WHERE true{self.among()}", ())
        for p in self.db.execute("SELECT name FROM purposes"):
            out |= self.consent(p["name"]) == GIVEN
        return np.asarray(out)

    def served(self, purpose: str) -> Mask:
        """Who has the relation that a service's purpose names: a booking, or one that was stated for it (a file that says
        given), or a prior relation that somebody of the workspace stated. Signing up somewhere is none."""
        booked = self._mask(
            f"SELECT DISTINCT subscriber FROM events INDEXED BY events_of_booking WHERE kind = {int(Kind.BOOKED)} "
            f"AND at <= ?{self.among()}",
            (self.now,),
        )
        stated = self._mask(f"SELECT subscriber FROM relations WHERE true{self.among()}", ())
        return np.asarray((booked | stated | (self.consent(purpose) == GIVEN)) & (self.consent(purpose) != PENDING))

    def asked_before(self) -> Mask:
        """Who was mailed a consent request already, or may have been."""
        (subscriber,) = read_columns(self.db, f"{consent_table.ASKED}{self.among()}", (), "q")
        out = np.zeros(len(self.ids), bool)
        place, here = self.place_of(subscriber)
        out[place[here]] = True
        return out

    def paused(self) -> Mask:
        """Who has asked for a pause that still lasts."""
        return self._mask(
            f"SELECT subscriber FROM preferences WHERE paused_until > ?{self.among()}",
            (self.now,),
            "SELECT min(paused_until) FROM preferences WHERE paused_until > :now",
        )

    def had_their_fill(self) -> Mask:
        """Who asked for at most one message a week or a month, and has had it."""
        out = np.zeros(len(self.ids), bool)
        for word, seconds in (("week", 7 * DAY), ("month", 30 * DAY)):
            wants = self._mask(f"SELECT subscriber FROM preferences WHERE at_most = ?{self.among()}", (word,))
            if wants.any():
                out |= wants & (self.sent_since(seconds)[0] > 0)
        return out

    def kind_of(self, purpose: str) -> str:
        """What kind of message the eligibility check is asked about: a transactional purpose is service, every other
        a campaign."""
        row = self.db.execute(
            "SELECT transactional FROM purposes WHERE id = ?", (self._id("purposes", "purpose", purpose),)
        )
        return "service" if row.fetchone()["transactional"] else "campaign"

    def may(self, purpose: str, *, limits: bool, sequences: bool = False, kind: str = "") -> Answer:
        """The eligibility check's answer for a message about a purpose; ``sequences`` leaves out who is inside one.
        ``kind`` is one of
        the eligibility check's, by default what the purpose says."""
        kind = kind or self.kind_of(purpose)
        return ask(self.standing(purpose, limits=limits, sequences=sequences, service=kind == "service"), kind)

    def may_ask(self, purposes: Sequence[str], *, limits: bool) -> Answer:
        """The eligibility check's answer for a consent request about some purposes: every one of them must allow it."""
        answers = [ask(self.standing(p, limits=limits, asking=True), "consent request") for p in purposes]
        first = answers[0].reasons
        return Answer(len(self.ids), {r: np.logical_or.reduce([a.reasons[r] for a in answers]) for r in first})

    def permitted(self, purpose: str) -> Mask:
        """Who may be mailed for a purpose, limits aside."""
        return self.may(purpose, limits=False).permitted
