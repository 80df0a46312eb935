"""The sunset policy's decisions and the chain of consent, on their own."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.consent import sunset as core
from openmeadow.core.consent.evidence import START, Broken, Entry, Shown, digest, said_digest, sealed, text_hash, verify
from openmeadow.core.consent.sunset import Agreement, Enrolment, due_at, next_step, protected_people, spared, stopped
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from tests.core.test_late_view import COLUMNS, LATE, WHOLE
from tests.making import NOW

KEY = b"k" * 32
words = st.one_of(st.none(), st.text(max_size=4))
entry = st.builds(
    lambda who, state, at, source, reason: (
        Entry(who, 1, "email", state, at, "form", said_digest(source, None, reason, Shown()), ""),
        (source, reason),
    ),
    st.integers(1, 3),
    st.sampled_from(["given", "withdrawn"]),
    st.integers(0, 99),
    words,
    words,
)


def chained(said: list[tuple[Entry, tuple[str | None, str | None]]]) -> tuple[list[tuple[Entry, str | None]], str]:
    """The entries one after the other, each with the digest of its words, and the head."""
    out: list[tuple[Entry, str | None]] = []
    before = START
    for e, (source, reason) in said:
        made = e._replace(before=before)
        out.append((made, said_digest(source, None, reason, Shown())))
        before = sealed(KEY, made)
    return out, before


@given(st.lists(entry, min_size=2, max_size=8), st.data())
def test_whatever_is_done_to_a_chain_is_found_where_it_was_done(
    said: list[tuple[Entry, tuple[str | None, str | None]]], data: st.DataObject
) -> None:
    chain, head = chained(said)
    assert verify(KEY, iter(chain), head, len(chain)) == (len(chain), None)
    erased = [(e, None) for e, _ in chain]
    assert verify(KEY, iter(erased), head, len(chain)) == (len(chain), None), "erased words leave the chain whole"
    at = data.draw(st.integers(0, len(chain) - 1))
    last = at == len(chain) - 1
    e, its_words = chain[at]
    for changed in (
        e._replace(at=e.at + 1),
        e._replace(subscriber=9),
        e._replace(state="pending"),
        e._replace(method="x"),
    ):
        found = verify(KEY, iter([*chain[:at], (changed, its_words), *chain[at + 1 :]]), head, len(chain))[1]
        where, what = (at + 1, "last entry") if last else (at + 2, "previous entry")
        assert found is not None and found.number == where and what in found.what
    other = verify(KEY, iter([*chain[:at], (e, digest("other")), *chain[at + 1 :]]), head, len(chain))[1]
    assert other == Broken(at + 1, "its source, wording or reason was changed")
    gone = verify(KEY, iter([*chain[:at], *chain[at + 1 :]]), head, len(chain))[1]
    assert gone is not None and gone.number == (len(chain) if last else at + 1)
    assert last == ("entries where" in gone.what)
    assert verify(b"another key", iter(chain), head, len(chain))[1] is not None
    assert verify(KEY, iter(chain), START, len(chain))[1] == Broken(len(chain), "the last entry was changed")


def test_words_are_told_apart() -> None:
    told = [digest(*w) for w in ((None,), ("",), ("a", "b"), ("ab", ""), ("b", "a"), ("\udc80",))]
    assert len(set(told)) == len(told) and text_hash("\udc80") != text_hash("?")
    shown = [Shown(), Shown(1), Shown(None, "x"), Shown(None, None, 1), Shown(None, None, None, "1")]
    assert len({said_digest("s", "w", "r", s) for s in shown}) == len(shown)
    assert said_digest("s", "w", "r", Shown()) == digest("s", "w", "r")


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        *(({"after_days": d}, "30 to 365") for d in (25, 29, 31, 366, 370, 0)),
        *(({"tries": t}, "one to five") for t in (0, 6, -1)),
        *(({"wait_days": d}, "3 to 90") for d in (2, 91, 0)),
    ],
)
def test_what_cannot_be_agreed_on_is_refused(wrong: dict[str, int], said: str) -> None:
    with pytest.raises(Refused, match=said):
        Agreement(**wrong)  # type: ignore[arg-type]


def test_the_edges_can_be_agreed_on() -> None:
    for right in (
        {"after_days": 30},
        {"after_days": 365},
        {"tries": 1},
        {"tries": 5},
        {"wait_days": 3},
        {"wait_days": 90},
    ):
        Agreement(**right)  # type: ignore[arg-type]


def test_who_has_stopped_and_who_is_spared() -> None:
    s, acts = WHOLE.scores, COLUMNS.acts
    inactive, masked = stopped(WHOLE, Agreement(after_days=90))
    for i in range(len(WHOLE.alive)):
        since = int(WHOLE.last_engaged[i]) if s.engaged[i] else int(COLUMNS.people.joined_at[i])
        long_ago = bool(WHOLE.alive[i]) and NOW - since >= 90 * DAY
        assert (inactive[i], masked[i]) == (
            long_ago and BANDS[s.band[i]] == "Inactive",
            long_ago and BANDS[s.band[i]] == "Masked",
        )
    assert inactive.sum() > 5 and masked.sum() > 2
    booked = {int(p) for p in acts.person[(acts.kind == Kind.BOOKED) & (acts.at > NOW - 200 * DAY)]}
    for view in (WHOLE, LATE):
        found = spared(view, NOW - 200 * DAY)
        assert list(found) == list(core.SPARED)
        unproven, blind = (np.array([BANDS[b] == name for b in s.band]) for name in ("Unproven", "Masked"))
        assert (found["Unproven"] == unproven).all() and (found["Masked"] == blind).all()
        assert set(np.flatnonzero(found["booked"])) == {p for p in booked if not unproven[p] and not blind[p]}
        ever = {int(p) for p in acts.person[np.isin(acts.kind, (Kind.BOOKED, Kind.REPLIED))]}
        assert set(np.flatnonzero(protected_people(view))) == ever
    assert 0 < len(booked) < len(ever)


def test_when_somebody_is_due() -> None:
    stay, a = Enrolment(NOW, 1, NOW + 9 * DAY), Agreement(tries=3, wait_days=10)
    assert due_at(stay, a) == NOW + 29 * DAY
    assert next_step(stay, NOW, False, True, a, NOW + 9 * DAY - 1) == core.WAIT
    assert next_step(stay, NOW, False, True, a, NOW + 9 * DAY) == core.AGAIN
    assert next_step(stay, NOW + 1, False, False, a, NOW + 9 * DAY) == core.ENGAGED
    assert next_step(stay, NOW, False, False, a, NOW) == core.NOT_PERMITTED
    assert next_step(Enrolment(NOW, 3, NOW), NOW, False, True, a, NOW) == core.SUPPRESS


@given(st.integers(1, 5), st.lists(st.sampled_from(["answer", "books", "leaves", "week"]), max_size=30))
def test_nobody_is_let_go_untried_or_after_an_answer(tries: int, what: list[str]) -> None:
    """Weeks and what people do, in any order."""
    a = Agreement(tries=tries)
    now, last, protected, permitted = 0, -1, False, True
    stay, mails = Enrolment(0, 1, a.wait_days * DAY), 1
    for w in what:
        if w == "week":
            now += 7 * DAY
            step = next_step(stay, last, protected, permitted, a, now)
            if step == core.AGAIN:
                stay, mails = Enrolment(0, stay.tries + 1, now + a.wait_days * DAY), mails + 1
            if step == core.SUPPRESS:
                assert mails == tries and last <= 0 and not protected and permitted
                assert now >= tries * a.wait_days * DAY
            if step in (core.SUPPRESS, core.ENGAGED, core.NOT_PERMITTED):
                return
        elif w == "answer":
            last = now + 1
        elif w == "books":
            protected = True
        else:
            permitted = False
    assert mails <= tries and np.isfinite(now)
