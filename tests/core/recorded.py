"""Recorded answers that drive decisions which ask; a question that is not recorded fails the test."""

from __future__ import annotations

from typing import TypeVar

from openmeadow.core.authentication.questions import Asking, Found, Question

T = TypeVar("T")
Answers = dict[tuple[str, str], list[str] | str]


def drive(asking: Asking[T], answers: Answers) -> T:
    """``answers`` by (name, kind): values, [] for none, "?" for no answer in time."""
    try:
        question = next(asking)
        while True:
            assert isinstance(question, Question)
            answer = answers[(question.name, question.kind)]
            question = asking.send(
                Found("unknown") if answer == "?" else Found("none") if not answer else Found("found", tuple(answer))
            )
    except StopIteration as end:
        return end.value  # type: ignore[no-any-return]


def zone(text: str) -> Answers:
    """``name KIND value`` a line; ``name KIND`` alone is none, ``name KIND ?`` no answer in time."""
    out: Answers = {}
    for line in text.strip().splitlines():
        name, kind, *rest = line.strip().split(" ", 2)
        value = rest[0] if rest else ""
        if value == "?":
            out[name, kind] = "?"
        else:
            there = out.setdefault((name, kind), [])
            assert isinstance(there, list)
            there += [value] if value else []
    return out
