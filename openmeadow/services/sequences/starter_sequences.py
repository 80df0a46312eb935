"""Sequences that are ready to be looked over and started: each becomes a draft of one's own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from openmeadow.core.errors import Missing
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.names import free_name
from openmeadow.core.sequences.definition import END, FOLLOW_UP, Begin, Definition, Leave, Step
from openmeadow.services import models
from openmeadow.services.campaigns import campaigns, waits
from openmeadow.services.sequences import editing
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers import consent

MORNING = 10


@dataclass(frozen=True)
class Ready:
    """``texts`` are (subject, preview, paragraphs) by step key; {agree} becomes the link that says yes."""

    name: str
    sentence: str
    definition: Callable[[str, int], Definition]  # purpose, the time in which 95% of answers come here
    texts: dict[int, tuple[str, str, list[str]]]


def _confirm(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "message", name="Please confirm"),
            Step(
                2, "resend", of=1, wait=2 * DAY, hour=MORNING, subject="Still interested? One click and you're subscribed"
            ),
            Step(3, "resend", of=1, wait=4 * DAY, hour=MORNING, subject="Our last reminder"),
        ),
        Begin("sign-up pending", purpose),
        Leave(confirmed=True),
    )


def _welcome(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "message", name="Welcome"),
            Step(2, "condition", of=1, wait=3 * DAY),
            Step(3, "resend", FOLLOW_UP, of=1, subject="In case you missed it: welcome"),
            Step(4, "wait", wait=2 * DAY, hour=MORNING),
            Step(5, "message", name="What's on"),
            Step(6, "condition", of=5, wait=3 * DAY),
            Step(7, "resend", FOLLOW_UP, of=5, subject="Reminder: what's on"),
            Step(8, "wait", wait=4 * DAY, hour=MORNING),
            Step(9, "message", name="Come and see"),
            Step(10, "label", name="welcomed"),
        ),
        Begin("confirms", purpose, a_day=400),
        Leave(booked=True),
    )


def _again(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "consent request", name="May we email you?", purposes=(purpose,)),
            Step(2, "resend", of=1, wait=14 * DAY, hour=MORNING, subject="Second try: may we email you?"),
            Step(3, "wait", wait=14 * DAY),
            Step(4, "label", name="no response"),
        ),
        Begin("manual", a_day=1900, first_day=300, random=True),
        Leave(confirmed=True),
    )


def _win_back(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "message", name="Keep getting our emails?"),
            Step(2, "condition", of=1, wait=10 * DAY, yes="8", no="continue"),
            Step(3, "message", name="What you missed"),
            Step(4, "condition", of=3, wait=12 * DAY, yes="8", no="continue"),
            Step(5, "message", name="The last email"),
            Step(6, "condition", of=5, wait=13 * DAY, yes="8"),
            Step(7, "suppress", FOLLOW_UP),
            Step(9, "end", FOLLOW_UP, meets=False),
            Step(8, "label", name="came back"),
        ),
        Begin("manual", a_day=500, first_day=200, random=True),
        Leave(),
    )


def _masked(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "message", name="One click"),
            Step(2, "condition", asks="clicked", of=1, wait=max(wait, 3 * DAY)),
            Step(3, "message", FOLLOW_UP, name="One click, reminder"),
            Step(4, "wait", FOLLOW_UP, wait=max(wait, 3 * DAY)),
            Step(5, "condition", asks="rule", rule="clicked at least 1 in 60 days", no=END),
            Step(6, "label", name="engages by clicking"),
        ),
        Begin("manual", a_day=500),
    )


def _trial(purpose: str, wait: int) -> Definition:
    return Definition(
        (
            Step(1, "message", name="Welcome"),
            Step(2, "condition", of=1, wait=wait),
            Step(3, "label", FOLLOW_UP, name="no engagement on trial"),
            Step(4, "end", FOLLOW_UP, meets=False),
            Step(5, "label", name="proven on trial"),
        ),
        Begin("manual", a_day=400, first_day=50, random=True),
    )


def _yearly(purpose: str, wait: int) -> Definition:
    return Definition(
        (Step(1, "wait", hour=MORNING, own_zone=True), Step(2, "message", name="On your day")),
        Begin("a date", "", yearly=True, again_after=300 * DAY),
    )


READY = {
    "confirm": Ready(
        "Confirm a sign-up",
        "For sign-ups from other forms that are not confirmed: one email and two reminders, until they "
        "confirm. Sign-up forms here already do this.",
        _confirm,
        {
            1: (
                "Please confirm your address",
                "One click and you're subscribed.",
                [
                    "You (or someone else) gave us this address.",
                    "Click the link to subscribe.",
                    "{agree}",
                    "If this wasn't you, ignore this email.",
                ],
            )
        },
    ),
    "welcome": Ready(
        "Welcome",
        "Three emails over nine days after a sign-up is confirmed, each with a resend to people who did not open it.",
        _welcome,
        {
            1: (
                "Welcome!",
                "What to expect from us, and how to unsubscribe.",
                [
                    "Dear {{ first_name or 'friend' }}, thank you for joining us.",
                    "We will let you know what's new. You can change what you receive and how often at any time.",
                    '<a href="{{ preferences_url }}">Email preferences</a>',
                ],
            ),
            5: (
                "What's on",
                "The best of what's coming up.",
                ["Dear {{ first_name or 'friend' }}, here is what other new subscribers liked best."],
            ),
            9: (
                "Come and see us",
                "An invitation.",
                ["Dear {{ first_name or 'friend' }}, you have been reading our emails for a while. Come and visit us."],
            ),
        },
    ),
    "again": Ready(
        "Ask for consent again",
        "For people you have an existing relationship with but no consent from: one email and one reminder "
        "after two weeks. Starts small.",
        _again,
        {
            1: (
                "May we email you?",
                "One click to say yes. Do nothing to say no.",
                [
                    "Dear {{ first_name or 'friend' }}, you know us, but you haven't yet agreed to our emails. May we send them?",
                    "{agree}",
                    "If you do nothing, we won't ask again.",
                ],
            )
        },
    ),
    "win back": Ready(
        "Win back inactive subscribers",
        "Up to three emails over five weeks. People who engage are kept and labelled; the rest are suppressed.",
        _win_back,
        {
            1: (
                "Do you still want our emails?",
                "One click and nothing changes.",
                [
                    "Dear {{ first_name or 'friend' }}, you haven't opened our emails in a while.",
                    '<a href="{{ stay_url }}">Keep me subscribed</a>',
                ],
            ),
            3: (
                "What you missed",
                "Highlights from the last months.",
                [
                    "Dear {{ first_name or 'friend' }}, here is what you missed.",
                    '<a href="{{ stay_url }}">Keep me subscribed</a>',
                ],
            ),
            5: (
                "This is our last email",
                "Unless you'd like to stay.",
                [
                    "Dear {{ first_name or 'friend' }}, we don't want to clutter your inbox.",
                    "If you don't click, this was our last email.",
                    '<a href="{{ stay_url }}">Keep me subscribed</a>',
                ],
            ),
        },
    ),
    "masked": Ready(
        "Ask Masked subscribers for a click",
        "Some email apps hide opens. One click shows that someone is reading; asked at most twice.",
        _masked,
        {
            1: (
                "One click, please",
                "So that we know you're reading.",
                [
                    "Dear {{ first_name or 'friend' }}, your email app hides whether you open our emails, and that's fine.",
                    "One click tells us that you want them.",
                    '<a href="{{ stay_url }}">I’m still reading</a>',
                ],
            ),
            3: (
                "Are you still there?",
                "One click is enough.",
                [
                    "Dear {{ first_name or 'friend' }}, this is our last reminder.",
                    '<a href="{{ stay_url }}">I’m still reading</a>',
                ],
            ),
        },
    ),
    "trial": Ready(
        "New import on trial",
        "50 random people on the first day, then 400 a day. People who bounce exit at once; people who "
        "engage in time are labelled proven.",
        _trial,
        {
            1: (
                "Welcome",
                "Who we are and why you get this email.",
                [
                    "Dear {{ first_name or 'friend' }}, you signed up with us, and this is our first email to you.",
                    '<a href="{{ preferences_url }}">Email preferences</a>',
                ],
            )
        },
    ),
    "yearly": Ready(
        "A yearly date",
        "One email at 10:00 in each person's time zone, on a date field: a birthday, the day they joined.",
        _yearly,
        {2: ("On your day", "Happy birthday!", ["Dear {{ first_name or 'friend' }}, all the best today."])},
    ),
}


def offered() -> list[models.ReadySequence]:
    """The ready-made sequences."""
    return [models.ReadySequence(key=k, name=r.name, sentence=r.sentence) for k, r in READY.items()]


def take(workspace: Workspace, key: str, who: str) -> int:
    """A draft of one's own from a ready one, with its messages written; its id."""
    ready = READY.get(key)
    if ready is None:
        raise Missing(f"There is no template “{key}”. Use one of {', '.join(READY)}.")
    db = workspace.store.read()
    purposes = [p for p in consent.purposes(db) if not p.transactional] or list(consent.purposes(db))
    if not purposes:
        raise Missing("There is no consent purpose yet. Create one first.")
    given = consent.given_by_purpose(db)
    purpose = max(purposes, key=lambda p: given.get(p.id, 0))
    name = free_name(ready.name, lambda n: sequences.named(db, n))
    wait = max(HOUR, waits.usual_wait(workspace, workspace.view()))
    row_id = editing.add(workspace, name, who, ready.definition(purpose.name, wait))
    sound = {d.id for d in sender_table.domains(db) if d.state == "pass"}
    confirmed = sorted((a for a in sender_table.addresses(db) if a.confirmed_at), key=lambda a: a.domain not in sound)
    values: models.SequenceChanges = {"purpose": purpose.id, "from_name": str(workspace.setting("name") or "")}
    if confirmed:
        values["from_address"] = confirmed[0].id
    editing.write(workspace, row_id, values, who)
    mails = sequences.mails(db, row_id)
    for step, (subject, preview, paragraphs) in ready.texts.items():
        agree = f'<a href="{{{{ agree_{purpose.id} }}}}">Yes, send me {purpose.name}</a>'
        html = "\n".join(f"<p>{p.replace('{agree}', agree)}</p>" for p in paragraphs)
        campaigns.write(workspace, mails[step].id, {"subject": subject, "preview": preview, "html": html})
    return row_id
