"""The plan of a campaign: when its batches go out, in which order, and what is resent. Frozen; the screen, the API, the
services and this core all speak of this one model. Times are UTC seconds, waits and intervals seconds, shares 0 to 1."""

from __future__ import annotations

from typing import Literal, Self
from zoneinfo import ZoneInfo

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from openmeadow.core.delivery.batches import BatchPlan
from openmeadow.core.delivery.schedule import Windows, after_wait, allowed_from, ramp
from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY, HOUR

Order = Literal["most engaged first", "at random", "by time zone"]
ResendRule = Literal["not engaged", "opened, not clicked"]
USUAL_WAIT = 3 * DAY  # between a message and its resend, where the workspace's history says nothing else
MOST_VARIANTS = 4
LARGEST_SHARE = 0.5  # of the recipients: in the pilot batch, or in the holdout group
BATCHES = (1, 100)
INTERVAL = (60, 30 * DAY)
RESEND_WAIT, VARIANT_WAIT, TEST_WAIT = (HOUR, 30 * DAY), 60 * DAY, (HOUR, 14 * DAY)


class _Frozen(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, json_schema_serialization_defaults_required=True)


class Variant(_Frozen):
    """A variant of a resend; "" and 0 are the same as in the first message, and the plan's wait."""

    subject: str = Field(default="", max_length=500)
    preview: str = Field(default="", max_length=500)
    wait: int = 0


class NamedVariant(Variant):
    """A variant with the name that results show and the wait it has."""

    name: str


class ABTest(_Frozen):
    """Two versions of the message in the pilot batch; ``settled`` is the letter that was used for the rest, with why."""

    figure: Literal["opened", "clicked"] = "opened"
    wait: int = 14_400
    pick: Literal["better", "by hand"] = "better"
    settled: str = ""
    why: str = ""


class Plan(_Frozen):
    """``largest`` 0 and ``ramp`` 0 are none; ``caps`` are messages a day by provider's name; ``moved`` are moments given
    to batches by hand, by number; ``suppress_after_days`` 0 never."""

    start: int | None = None
    pilot_share: float = 0.08
    batches: int = 3
    interval: int = 14_400
    order: Order = "most engaged first"
    resend: bool = True
    resend_rule: ResendRule = "not engaged"
    wait: int = USUAL_WAIT
    holdout_share: float = 0.1
    new_subject: str = ""
    variants: list[Variant] = []
    second: bool = False
    machine_only: bool = False
    suppress_after_days: int = 0
    suppressed_at: int | None = None
    hours: list[int] = Field(default=[0, 24], min_length=2, max_length=2)
    weekdays: list[int] = [0, 1, 2, 3, 4, 5, 6]
    zones: bool = False
    own_hour: bool = False
    caps: dict[str, int] = {}
    largest: int = 0
    ramp: int = 0
    no_later_than: int | None = None
    moved: dict[str, int] = {}
    test: ABTest | None = None

    def changed(self, **values: object) -> Self:
        """The plan with some values changed. Refused where one is of the wrong kind; limits are seen to by ``check``."""
        try:
            return type(self).model_validate(self.model_dump() | values)
        except ValidationError as e:
            first = e.errors(include_url=False)[0]
            where = ", ".join(str(part).replace("_", " ") for part in first["loc"])
            raise Refused(f"The schedule cannot be read: {where}: {first['msg'].lower()}.") from e

    @property
    def windows(self) -> Windows:
        """The allowed hours and weekdays."""
        return Windows((self.hours[0], self.hours[1]), frozenset(self.weekdays))

    @property
    def by_own_clock(self) -> bool:
        """Whether everybody is mailed by the clock of their own zone."""
        return self.zones or self.own_hour

    def resend_at(self, at: int, wait: int, zone: ZoneInfo) -> int | None:
        """When those who left a batch ignored get it again; None where the end date is before."""
        return after_wait(at, wait, self.windows, zone, self.no_later_than, by_day=self.by_own_clock)

    def closed_until(self, now: int, zone: ZoneInfo) -> int:
        """The next moment at which this plan may mail, where that is not now; 0 where it is. Plans by everybody's own
        clock have their hours in their batches."""
        at = now if self.by_own_clock else allowed_from(now, self.windows, zone)
        return at if at > now else 0

    def resend_variants(self) -> list[NamedVariant]:
        """The resend's variants, named by what differs and with the wait of each."""
        own = list(self.variants) or [Variant(), *([Variant(subject=self.new_subject)] if self.new_subject else [])]
        out: list[NamedVariant] = []
        for variant in own[:MOST_VARIANTS]:
            changed = [
                words
                for words, there in (
                    ("new subject", variant.subject),
                    ("new preview text", variant.preview),
                    (f"after {round(variant.wait / DAY, 1):g} days", variant.wait and variant.wait != self.wait),
                )
                if there
            ]
            name = ", ".join(changed).capitalize() or "Same subject"
            if name in [o.name for o in out]:
                name = f"{name} ({len(out) + 1})"
            wait = variant.wait or self.wait
            out.append(NamedVariant(subject=variant.subject, preview=variant.preview, wait=wait, name=name))
        return out

    def divided(self, seed: int, now: int, people: int) -> BatchPlan:
        """How so many recipients are divided into batches from now on, or from the plan's start."""
        start = max(self.start or now, now)
        if self.ramp:
            return BatchPlan(seed, start, 0.0, 1, DAY, self.order, tuple(ramp(people, self.ramp)))
        batches = self.batches
        if self.largest:
            rest = people - round(people * self.pilot_share)
            batches = max(batches, -(-rest // self.largest))
        gap = self.test.wait if self.test else 0
        return BatchPlan(seed, start, self.pilot_share, batches, self.interval, self.order, (), gap)

    def check(self) -> None:
        """Refused with the first limit that the plan breaks."""
        test = self.test
        for ok, words in (
            (0 <= self.pilot_share <= LARGEST_SHARE, "The pilot batch can be at most half of the recipients."),
            (BATCHES[0] <= self.batches <= BATCHES[1], "A campaign has 1 to 100 batches."),
            (INTERVAL[0] <= self.interval <= INTERVAL[1], "The interval between batches is 1 minute to 30 days."),
            (
                not self.resend or RESEND_WAIT[0] <= self.wait <= RESEND_WAIT[1],
                "A resend is sent after 1 hour to 30 days.",
            ),
            (0 <= self.holdout_share <= LARGEST_SHARE, "The holdout group can be at most half."),
            (0 <= self.hours[0] < self.hours[1] <= 24, "The sending hours start before they end, between 0 and 24."),
            (bool(self.weekdays) and set(self.weekdays) <= set(range(7)), "Choose at least one weekday."),
            (
                self.largest >= 0 and all(c >= 0 for c in self.caps.values()),
                "A daily limit is a number of recipients, or none.",
            ),
            (
                self.no_later_than is None or self.no_later_than > (self.start or 0),
                "The end date must be after the start.",
            ),
            (self.ramp >= 0, "A warm-up starts with a number of recipients."),
            (len(self.variants) <= MOST_VARIANTS, f"A resend has at most {MOST_VARIANTS} variants."),
            (
                all(self.wait <= v.wait <= VARIANT_WAIT for v in self.resend_variants()),
                "A variant cannot wait less than the resend.",
            ),
            (
                test is None or (TEST_WAIT[0] <= test.wait <= TEST_WAIT[1] and self.pilot_share > 0),
                "An A/B test runs in the pilot batch, by opened or clicked, for 1 hour to 14 days.",
            ),
        ):
            if not ok:
                raise Refused(words)
