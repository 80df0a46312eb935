"""What a resend added: each arm against the people held back by lot (5-computation: resend)."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.statistics import Interval, newcombe


@dataclass(frozen=True)
class ArmCount:
    """People of one arm, how many answered after the resend's moment, and the harm."""

    arm: str
    people: int
    answered: int
    unsubscribed: int = 0
    complained: int = 0


@dataclass(frozen=True)
class Lift:
    arm: ArmCount
    difference: Interval  # of shares, against the held back
    added: float  # answers beyond what the held back would have given

    @property
    def verdict(self) -> str:
        """yes: the interval lies above nothing; harm: below; otherwise not shown."""
        if self.arm.people == 0:
            return "not shown"
        return "yes" if self.difference.low > 0 else "harm" if self.difference.high < 0 else "not shown"


def lift(arm: ArmCount, held: ArmCount) -> Lift:
    d = newcombe(arm.answered, arm.people, held.answered, held.people)
    return Lift(arm, d, d.point * arm.people)


def in_words(lifts: list[Lift], held: ArmCount) -> str:
    """One plain paragraph: what was added, under which arm, at what cost."""
    gained = [x for x in lifts if x.verdict == "yes"]
    harm = sum(x.arm.unsubscribed for x in lifts)
    complaints = sum(x.arm.complained for x in lifts)
    left = "nobody" if not harm else f"{harm} {'person' if harm == 1 else 'people'}"
    cost = f"{left.capitalize()} unsubscribed and {complaints or 'nobody'} complained after the resend."
    if held.people == 0:
        return f"Nobody was held back, so what late openers would have done anyway cannot be taken off. {cost}"
    if not gained:
        hurt = [x for x in lifts if x.verdict == "harm"]
        if hurt:
            return (
                f"Harm. {' and '.join(x.arm.arm for x in hurt)} did worse than the {held.people} people held back. {cost}"
            )
        return (
            f"Not shown. With {sum(x.arm.people for x in lifts)} people again and {held.people} held back, "
            f"a difference of this size could be chance. {cost}"
        )
    parts = ", ".join(f"about {x.added:,.0f} under {x.arm.arm.lower()}" for x in gained)
    return f"Yes. {sum(x.added for x in gained):,.0f} more people answered than would have anyway ({parts}). {cost}"
