"""The walk-through: what a chosen person, or somebody who never opens, would get day by day."""

from __future__ import annotations

from openmeadow.core.errors import Missing
from openmeadow.core.ids import SequenceId
from openmeadow.core.message.personalisation import Body, FieldMistake
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Step
from openmeadow.core.sequences.simulation import walk
from openmeadow.services import models
from openmeadow.services.campaigns.renderer import person_fields
from openmeadow.services.sequences.conditions import zones
from openmeadow.services.sequences.loading import definition_of, pass_of, row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.records import SubscriberWithSource

SUPPOSED = {
    "never": "never opens anything",
    "always": "opens everything and clicks",
    "resends": "opens only what is resent",
}


def see(workspace: Workspace, row_id: SequenceId, supposed: str, email: str = "") -> models.WalkThrough:
    """Day by day what would come, supposing how they answer; rules are asked about the person where one is chosen, and
    said no to otherwise."""
    row = row_of(workspace, row_id)
    definition, mails = definition_of(row), sequences.mails(workspace.store.read(), row_id)
    if supposed not in SUPPOSED:
        raise Missing(f"Unknown behaviour; use one of {', '.join(SUPPOSED)}.")
    person: SubscriberWithSource | None = None
    if email.strip():
        found = subscribers.matching(workspace.store.read(), email.strip(), 1)
        person = subscribers.subscriber(workspace.store.read(), found[0]) if found else None
        if person is None:
            raise Missing(f"There is no subscriber with the address {email.strip()[:80]}.")
    view = workspace.view() if person is not None else None
    got: set[int] = set()  # messages that came a second time
    notes: dict[int, str] = {}

    def ask(step: Step) -> bool:
        if step.kind == "condition" and step.asks == "rule":
            if view is None or person is None:
                notes[step.key] = "assumed: no"
                return False
            notes[step.key] = f"for {person.email} as of now"
            return bool(view.mask(workspace.checked_rule(step.rule, view))[workspace.index_of(view, person.id)])
        return supposed == "always" or (supposed == "resends" and step.of in got)

    def mailed(step: Step) -> bool:
        said = ask(step)
        if step.kind == "resend" and not said:
            got.add(step.of)
        return said

    now = workspace.now()
    own = person.time_zone if person is not None else None
    seen = walk(definition, now, mailed, zones(str(workspace.setting("time_zone")), own))
    titles = definition.titles()
    days = []
    for x in seen:
        step = definition.step(x.step)
        mail = mails.get(pass_of(definition, step)[0]) if step is not None else None
        days.append(
            models.WalkDay(
                at=x.at,
                day=(x.at - now) // DAY,
                step=x.step,
                what=x.what,
                said=x.said,
                kind=step.kind if step is not None else "",
                title=titles.get(step.of if step.kind == "resend" else step.key, "") if step is not None else "",
                subject=_subject(step, mail, person) if x.what == "mail" and step is not None else "",
                campaign=mail.id if mail is not None and x.what == "mail" else None,
                note=notes.get(x.step, ""),
            )
        )
    who = person.email if person is not None else "someone"
    return models.WalkThrough(who=who, supposed=SUPPOSED[supposed], days=days)


def _subject(step: Step, mail: Campaign | None, person: SubscriberWithSource | None) -> str:
    text = step.subject or (mail.subject if mail is not None else "")
    if not text or person is None:
        return str(text)
    try:
        return Body(text, "", "", " ", "", {}).say(person_fields(person), str, "").subject
    except FieldMistake:
        return str(text)
