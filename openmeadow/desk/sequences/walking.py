"""The walk-through: what a chosen person, or somebody who never opens, would get day by day."""

from __future__ import annotations

from typing import Any

from openmeadow.core.errors import Missing
from openmeadow.core.message.body import Body, FieldMistake
from openmeadow.core.sequences.ladder import Step
from openmeadow.core.sequences.walk import walk
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences.asking import zones
from openmeadow.desk.sequences.reading import ladder_of, pass_of, row_of
from openmeadow.desk.writer import person_fields
from openmeadow.store import sequences, subscribers

SUPPOSED = {
    "never": "never opens anything",
    "always": "opens everything and clicks",
    "repeats": "opens only what is repeated",
}


def see(desk: Desk, id: int, supposed: str, email: str = "") -> dict[str, Any]:
    """Day by day what would come, supposing how they answer; rules are asked about the person where one is chosen, and
    said no to otherwise."""
    row = row_of(desk, id)
    ladder, mails = ladder_of(row), sequences.mails(desk.store.read(), id)
    if supposed not in SUPPOSED:
        raise Missing(f"Suppose one of {', '.join(SUPPOSED)}.")
    person: Any = None
    if email.strip():
        found = subscribers.matching(desk.store.read(), email.strip(), 1)
        person = subscribers.subscriber(desk.store.read(), found[0]) if found else None
        if person is None:
            raise Missing(f"Nobody here has the address {email.strip()[:80]}.")
    view = desk.view() if person is not None else None
    got: set[int] = set()  # messages that came a second time
    notes: dict[int, str] = {}

    def ask(step: Step) -> bool:
        if step.kind == "question" and step.asks == "rule":
            if view is None or person is None:
                notes[step.key] = "supposed: no"
                return False
            notes[step.key] = f"asked of {person['email']} as of now"
            return bool(view.mask(desk.checked_rule(step.rule, view))[desk.index_of(view, person["id"])])
        return supposed == "always" or (supposed == "repeats" and step.of in got)

    def mailed(step: Step) -> bool:
        said = ask(step)
        if step.kind == "repeat" and not said:
            got.add(step.of)
        return said

    now = desk.now()
    own = person["time_zone"] if person is not None else None
    seen = walk(ladder, now, mailed, zones(str(desk.setting("time_zone")), own))
    titles = ladder.titles()
    days = []
    for x in seen:
        step = ladder.step(x.step)
        mail = mails.get(pass_of(ladder, step)[0]) if step is not None else None
        days.append(
            {
                "at": x.at,
                "day": (x.at - now) // 86_400,
                "step": x.step,
                "what": x.what,
                "said": x.said,
                "kind": step.kind if step is not None else "",
                "title": titles.get(step.of if step.kind == "repeat" else step.key, "") if step is not None else "",
                "subject": _subject(step, mail, person) if x.what == "mail" and step is not None else "",
                "campaign": mail["id"] if mail is not None and x.what == "mail" else None,
                "note": notes.get(x.step, ""),
            }
        )
    who = person["email"] if person is not None else "somebody"
    return {"who": who, "supposed": SUPPOSED[supposed], "days": days}


def _subject(step: Step, mail: Any, person: Any) -> str:
    text = step.subject or (mail["subject"] if mail is not None else "")
    if not text or person is None:
        return str(text)
    try:
        return Body(text, "", "", " ", "", {}).say(person_fields(person), str, "").subject
    except FieldMistake:
        return str(text)
