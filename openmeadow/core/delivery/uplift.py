"""What a resend added: each variant against the people kept as a random control group."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.statistics import Interval, newcombe


@dataclass(frozen=True)
class VariantCount:
    """People of one variant, how many answered after the resend's moment, and the harm."""

    variant: str
    people: int
    engaged: int
    unsubscribed: int = 0
    complained: int = 0


@dataclass(frozen=True)
class Lift:
    variant: VariantCount
    difference: Interval  # of shares, against the holdout group
    added: float  # answers beyond what the holdout group would have given

    @property
    def verdict(self) -> str:
        """yes: the interval lies above nothing; harm: below; otherwise not shown."""
        if self.variant.people == 0:
            return "not significant"
        return "yes" if self.difference.low > 0 else "harm" if self.difference.high < 0 else "not significant"


def lift(variant: VariantCount, held: VariantCount) -> Lift:
    """The difference of engaged shares from the holdout group, with its 95% interval (Newcombe), and how many it added."""
    d = newcombe(variant.engaged, variant.people, held.engaged, held.people)
    return Lift(variant, d, d.point * variant.people)


def in_words(lifts: list[Lift], held: VariantCount) -> str:
    """One plain paragraph: what was added, under which variant, at what cost."""
    gained = [x for x in lifts if x.verdict == "yes"]
    harm = sum(x.variant.unsubscribed for x in lifts)
    complaints = sum(x.variant.complained for x in lifts)
    left = "no one" if not harm else f"{harm} {'person' if harm == 1 else 'people'}"
    cost = f"{left.capitalize()} unsubscribed and {complaints or 'no one'} complained after the resend."
    if held.people == 0:
        return f"There was no holdout group, so late engagement cannot be deducted. {cost}"
    if not gained:
        hurt = [x for x in lifts if x.verdict == "harm"]
        if hurt:
            return (
                f"Negative effect. {' and '.join(x.variant.variant for x in hurt)} did worse than the {held.people} "
                f"people in the holdout group. {cost}"
            )
        return (
            f"Not significant. With {sum(x.variant.people for x in lifts)} people resent to and {held.people} in "
            f"the holdout group, this could be chance. {cost}"
        )
    parts = ", ".join(f"about {x.added:,.0f} with {x.variant.variant.lower()}" for x in gained)
    return f"Yes. {sum(x.added for x in gained):,.0f} additional people engaged ({parts}). {cost}"
