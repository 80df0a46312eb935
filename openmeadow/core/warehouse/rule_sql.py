"""A rule as one SELECT over the exported tables (``tables``), built as a tree of SQL and never from pasted text.

Every condition becomes a table of the people it is about (a CTE with one row a person) that is joined to the people; the
rule's own and, or and not stand in WHERE. A dialect is chosen when the tree is written."""

from __future__ import annotations

import string
from collections.abc import Sequence
from dataclasses import dataclass, field
from math import ceil, floor

import numpy as np
from sqlglot import exp

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.rules import activity_clauses as acts
from openmeadow.core.rules import people_clauses as people
from openmeadow.core.rules.conditions import AllOf, AnyOf, Negated, OfMessages, Rule
from openmeadow.core.rules.spans import Bound
from openmeadow.core.warehouse.moment import Moment, Names
from openmeadow.core.warehouse.standing_sql import STANDING, standing

P = "p"  # the people that are selected
COMPARED = {"at least": exp.GTE, "at most": exp.LTE, "more than": exp.GT, "fewer than": exp.LT}
KINDS = {
    "opened": (("opened", "clicked"), False),
    "opened by anyone": (("opened", "clicked"), True),
    "clicked": (("clicked",), False),
    "replied": (("replied",), False),
    "engaged": (("opened", "clicked", "replied", "booked"), False),
}


def number(value: float) -> exp.Expr:
    """A figure as SQL: whole where it is."""
    whole = int(value)
    made = exp.Literal.number(abs(whole) if whole == value else repr(abs(float(value))))
    return exp.Neg(this=made) if value < 0 else made


def text(value: str) -> exp.Expr:
    """A text as SQL."""
    return exp.Literal.string(value)


def col(name: str, of: str = "") -> exp.Column:
    """A column, of a table where one is named."""
    return exp.column(name, table=of or None)


def plain_letters(value: exp.Expr) -> exp.Expr:
    """With the letters A to Z made small, as rules compare texts."""
    return exp.func("TRANSLATE", value, text(string.ascii_uppercase), text(string.ascii_lowercase))


def small(value: str) -> exp.Expr:
    """A text of the rule, compared as ``plain_letters``."""
    return text(value.translate(str.maketrans(string.ascii_uppercase, string.ascii_lowercase)))


def met(bound: Bound, figure: exp.Expr) -> exp.Expr:
    """A figure within a bound."""
    return COMPARED[bound.side](this=figure, expression=number(bound.value))


def holds_none(bound: Bound) -> bool:
    """Whether a figure of 0 is within a bound."""
    return bool(bound.met_by(np.zeros(1, np.int64))[0])


def is_in(what: exp.Expr, values: Sequence[int | str]) -> exp.Expr:
    """One of some values; never where there are none."""
    if not values:
        return exp.false()
    return exp.In(this=what, expressions=[text(v) if isinstance(v, str) else number(v) for v in values])


def _certain(condition: exp.Expr) -> exp.Expr:
    """False where a condition cannot be told, so that its negation is true."""
    return exp.Coalesce(this=condition, expressions=[exp.false()])


def not_yet(name: str, now: int) -> exp.Expr:
    """A moment that has not come by now, or never does."""
    return exp.paren(exp.or_(exp.Is(this=col(name), expression=exp.null()), col(name) > number(now)))


@dataclass
class RuleSql:
    """Makes the SELECT of one rule."""

    moment: Moment
    names: Names
    tables: dict[str, exp.Query] = field(default_factory=dict)  # the CTEs, in order
    joined: list[str] = field(default_factory=list)  # those with a row a person that conditions look at
    _known: dict[Rule, exp.Expr] = field(default_factory=dict)

    def select(self, rule: Rule, columns: Sequence[str] = ("person", "email")) -> exp.Select:
        """The people who match, with some columns of ``people``."""
        return self.of(rule, [col(c, P) for c in columns])

    def of(self, rule: Rule, shown: Sequence[exp.Expr]) -> exp.Select:
        """Some expressions about the people who match."""
        where = self.condition(rule)
        out = exp.select(*shown).from_(exp.to_table("people").as_(P))
        for name in self.joined:
            out = out.join(name, on=exp.EQ(this=col("person", name), expression=col("person", P)), join_type="left")
        out = out.where(exp.and_(col("joined_at", P) <= number(self.moment.now), where))
        for name, query in self.tables.items():
            out = out.with_(name, as_=query)
        return out

    def stand(self) -> None:
        """Have STANDING joined to the people."""
        for name, query in standing(self.moment).items():
            self.tables.setdefault(name, query)
        if STANDING not in self.joined:
            self.joined.append(STANDING)

    def condition(self, rule: Rule) -> exp.Expr:
        """What must be true of a row of people for the rule to match."""
        found = self._known.get(rule)
        if found is None:
            found = self._known[rule] = exp.paren(self._of(rule))
        return found.copy()

    def _of(self, rule: Rule) -> exp.Expr:
        match rule:
            case AllOf():
                return exp.and_(*(self.condition(r) for r in rule.parts))
            case AnyOf():
                return exp.or_(*(self.condition(r) for r in rule.parts))
            case Negated():
                return exp.not_(self.condition(rule.part))
            case people.InSegment():
                return self.condition(self.names.segment(rule.name))
            case acts.ScoreIs() | acts.LikelyActive() | acts.IgnoredInARow() | acts.BandIs():
                return self._standing(rule)
            case OfMessages():
                return self._counted(rule)
            case acts.SoftBounced():
                return self._soft_bounced(rule)
        found = self._of_acts(rule)
        return self._of_people(rule) if found is None else found

    # conditions that count

    def _people(self, query: exp.Select) -> exp.Expr:
        """Whether a person is in a table of people, which becomes a CTE."""
        name = f"condition_{len(self.joined) + 1}"
        self.tables[name] = query
        self.joined.append(name)
        return exp.not_(exp.Is(this=col("person", name), expression=exp.null()))

    def _bounded(self, query: exp.Select, figure: exp.Expr, bound: Bound, of: str = "") -> exp.Expr:
        """People whose figure is within a bound; who has no rows has 0. ``of`` is the table that names them."""
        grouped = query.group_by(col("person", of))
        if holds_none(bound):
            return exp.not_(self._people(grouped.having(exp.not_(exp.paren(met(bound, figure))))))
        return self._people(grouped.having(met(bound, figure)))

    def _counted(self, rule: OfMessages) -> exp.Expr:
        now = self.moment.now
        query = exp.select(col("person")).from_("deliveries" if isinstance(rule, acts.Received) else "engagement")
        at = col("first_at" if isinstance(rule, acts.Received) else "at")
        query = query.where(at <= number(now))
        if rule.window is not None:
            query = query.where(at.copy() > number(rule.since(now)))
        if rule.of is not None:
            query = query.where(is_in(col("message"), self.names.message_ids(rule.of)))
        if isinstance(rule, acts.Received):
            return self._bounded(query.where(not_yet("failed_at", now)), exp.Count(this=exp.Star()), rule.bound)
        if isinstance(rule, acts.Booked):
            query = query.where(exp.EQ(this=col("kind"), expression=text("booked")))
            figure = exp.Sum(this=col("value")) if rule.by_value else exp.Count(this=exp.Star())
            return self._bounded(query, figure, rule.bound)
        assert isinstance(rule, acts.Acted)
        kinds, machines_too = KINDS[rule.stream]
        query = query.where(is_in(col("kind"), kinds))
        if not machines_too:
            query = query.where(exp.NEQ(this=col("made_by"), expression=text("machine")))
        different = exp.Count(this=exp.Distinct(expressions=[col("message")]))
        of_none = exp.Count(this=exp.Star()) - exp.Count(this=col("message"))  # each counts for itself
        return self._bounded(query, different + of_none, rule.bound)

    def _soft_bounced(self, rule: acts.SoftBounced) -> exp.Expr:
        now = self.moment.now
        last = (
            exp.select(col("person"), exp.Max(this=col("first_at")).as_("last_at"))
            .from_("deliveries")
            .where(col("first_at") <= number(now), not_yet("failed_at", now))
            .group_by(col("person"))
        )
        self.tables["last_delivered"] = last
        query = (
            exp.select(col("person", "b"))
            .from_(exp.to_table("bounces").as_("b"))
            .join(
                exp.to_table("last_delivered").as_("l"),
                on=exp.EQ(this=col("person", "l"), expression=col("person", "b")),
                join_type="left",
            )
            .where(
                exp.EQ(this=col("what", "b"), expression=text("soft")),
                col("at", "b") <= number(now),
                exp.or_(exp.Is(this=col("last_at", "l"), expression=exp.null()), col("at", "b") > col("last_at", "l")),
            )
        )
        return self._bounded(query, exp.Count(this=exp.Star()), rule.bound, "b")

    def _standing(self, rule: Rule) -> exp.Expr:
        self.stand()
        if isinstance(rule, acts.BandIs):
            return is_in(col("band", STANDING), rule.bands)
        if isinstance(rule, acts.IgnoredInARow):
            return met(rule.bound, col("ignored", STANDING))
        assert isinstance(rule, acts.ScoreIs | acts.LikelyActive)
        of = "chance" if isinstance(rule, acts.ScoreIs) else "active"
        return met(rule.bound, exp.Literal.number("100.0") * col(of, STANDING))

    # conditions of one row or another table

    def _last_engaged(self) -> str:
        name = "last_engaged"
        if name not in self.tables:
            query = (
                exp.select(col("person"), exp.Max(this=col("at")).as_("at"))
                .from_("engagement")
                .where(exp.NEQ(this=col("made_by"), expression=text("machine")), col("at") <= number(self.moment.now))
                .group_by(col("person"))
            )
            self.tables[name] = query
        return name

    def _since(self, edge: float, side: str) -> exp.Expr:
        """People whose last engagement is strictly before or after a moment."""
        at = col("at")
        bound = at < number(ceil(edge)) if side == "more" else at > number(floor(edge))
        return self._people(exp.select(col("person")).from_(self._last_engaged()).where(bound))

    def _table(self, table: str, *where: exp.Expr) -> exp.Expr:
        """People who have a row of a table."""
        return self._people(exp.select(col("person")).distinct().from_(table).where(*where))

    def _ago(self, at: exp.Expr, side: str, seconds: float) -> exp.Expr:
        edge = self.moment.now - seconds
        return at < number(ceil(edge)) if side == "more" else at > number(floor(edge))

    def _of_acts(self, rule: Rule) -> exp.Expr | None:
        """A condition about what somebody did or received; None where it is about something else."""
        now = self.moment.now
        match rule:
            case acts.EngagedWithin():
                after = col("at", "e") - col("joined_at", "q")
                query = (
                    exp.select(col("person", "e"))
                    .distinct()
                    .from_(exp.to_table("engagement").as_("e"))
                    .join(
                        exp.to_table("people").as_("q"), on=exp.EQ(this=col("person", "q"), expression=col("person", "e"))
                    )
                    .where(
                        exp.NEQ(this=col("made_by", "e"), expression=text("machine")),
                        col("at", "e") <= number(now),
                        after >= number(0),
                        after.copy() <= number(rule.span.seconds),
                    )
                )
                return self._people(query)
            case acts.Ignored():
                return self._table(
                    "deliveries",
                    is_in(col("message"), self.names.message_ids(rule.message)),
                    col("first_at") <= number(now),
                    *(not_yet(name, now) for name in ("failed_at", "opened_at", "reacted_at")),
                )
            case acts.NeverEngaged():
                return exp.not_(self._people(exp.select(col("person")).from_(self._last_engaged())))
            case acts.NotEngaged():
                return exp.not_(self._since(now - rule.span.seconds, "less"))
            case acts.LastEngaged():
                return self._since(now - rule.span.seconds, rule.side)
            case acts.Joined():
                return self._ago(col("joined_at", P), rule.side, rule.span.seconds)
            case acts.Rejoined():
                return exp.and_(
                    exp.not_(exp.Is(this=col("rejoined_at", P), expression=exp.null())),
                    col("rejoined_at", P) <= number(now),
                )
        return None

    def _of_people(self, rule: Rule) -> exp.Expr:
        """A condition about what is known of somebody."""
        now = self.moment.now

        def same(name: str, value: str) -> exp.Expr:
            return exp.EQ(this=col(name), expression=text(value))

        match rule:
            case people.Permitted():
                return self._table("permitted", same("purpose", self.names.exact("purpose", rule.name)))
            case people.InList():
                return self._table("lists", same("list", self.names.exact("list", rule.name)), col("at") <= number(now))
            case people.HasLabel():
                return self._table("labels", same("label", self.names.exact("label", rule.name)))
            case people.ProviderIs():
                return _certain(exp.EQ(this=col("provider", P), expression=text(self.names.exact("provider", rule.name))))
            case people.SourceIs():
                return _certain(exp.EQ(this=col("source", P), expression=text(self.names.exact("source", rule.name))))
            case people.LanguageIs() | people.CountryIs():
                column = "language" if isinstance(rule, people.LanguageIs) else "country"
                return _certain(exp.EQ(this=plain_letters(col(column, P)), expression=small(rule.name)))
            case people.InSnapshot():
                at = number(self.names.snapshot_id(rule.name, rule.day))
                return self._table("snapshots", exp.EQ(this=col("snapshot"), expression=at))
            case people.InSequence() | people.FinishedSequence():
                return self._sequence(rule)
            case people.ConsentIs() | people.ConsentAge() | people.ConsentFrom():
                return self._consent(rule)
            case people.AddressIs():
                known = [s for s in rule.states if s in (*VERDICTS, "not checked")]
                return is_in(col("address", P), known)
            case people.Suppressed():
                reason = () if rule.reason is None else (same("reason", rule.reason.lower()),)
                return self._table("suppressions", col("at") <= number(now), *reason)
            case people.Field():
                return self._field(rule)
        raise NotImplementedError(type(rule).__name__)

    def _sequence(self, rule: people.InSequence | people.FinishedSequence) -> exp.Expr:
        name, now = self.names.exact("sequence", rule.name), self.moment.now
        mine = exp.EQ(this=col("sequence"), expression=text(name))
        if isinstance(rule, people.InSequence):
            where: list[exp.Expr] = [mine, col("entered_at") <= number(now), not_yet("left_at", now)]
            if rule.step is not None:
                where.append(exp.EQ(this=col("step"), expression=number(self.names.step_key(rule.name, rule.step))))
            return self._table("sequences", *where)
        query = (
            exp.select(col("person"))
            .from_("sequences")
            .where(mine, exp.EQ(this=col("finished"), expression=exp.true()), col("left_at") <= number(now))
            .group_by(col("person"))
        )
        if rule.span is not None:
            query = query.having(self._ago(exp.Max(this=col("left_at")), rule.side or "more", rule.span.seconds))
        return self._people(query)

    def _consent(self, rule: people.ConsentIs | people.ConsentAge | people.ConsentFrom) -> exp.Expr:
        channel = (rule.channel or "email") if isinstance(rule, people.ConsentIs) else "email"
        where: list[exp.Expr] = [
            exp.EQ(this=col("purpose"), expression=text(self.names.exact("purpose", rule.purpose))),
            exp.EQ(this=col("channel"), expression=text(channel)),
        ]
        if isinstance(rule, people.ConsentFrom):
            return self._table(
                "consent", *where, exp.EQ(this=plain_letters(col("source")), expression=small(rule.source))
            )
        if isinstance(rule, people.ConsentAge):
            return self._table("consent", *where, self._ago(col("given_at"), rule.side, rule.span.seconds))
        state = exp.EQ(this=col("state"), expression=text(rule.state))
        if rule.state == "none":  # no record is none
            return exp.not_(self._table("consent", *where, exp.not_(state)))
        return self._table("consent", *where, state)

    def _field(self, rule: people.Field) -> exp.Expr:
        mine = exp.EQ(this=col("field"), expression=text(self.names.exact("field", rule.name)))
        value = plain_letters(col("value"))
        match rule:
            case people.FieldEmpty():
                return exp.not_(self._table("fields", mine))
            case people.FieldIs():
                test: exp.Expr = exp.EQ(this=value, expression=small(rule.value))
            case people.FieldIsNot():
                test = exp.NEQ(this=value, expression=small(rule.value))
            case people.FieldContains():
                test = exp.StrPosition(this=value, substr=small(rule.value)) > number(0)
            case people.FieldOneOf():
                test = exp.In(this=value, expressions=[small(v) for v in rule.values])
            case people.FieldNumber():
                test = met(rule.bound, col("number"))
            case people.FieldDay():
                day = col("day")
                test = day < text(rule.day) if rule.side == "before" else day > text(rule.day)
            case people.FieldFalls():
                part = exp.Substring(this=col("day"), start=number(6), length=number(5))
                test = is_in(part, sorted(self.names.coming_days(rule.span.days)))
            case _:
                raise NotImplementedError(type(rule).__name__)
        return self._table("fields", mine, test)
