"""Sequences that are ready to be looked over and started: each becomes a draft of one's own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from openmeadow.core.errors import Missing
from openmeadow.core.sequences.ladder import DAY, END, HOUR, SECOND, Begin, Ladder, Leave, Step
from openmeadow.desk import campaigns, timing
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences import writing
from openmeadow.store import consent, sequences
from openmeadow.store import senders as sender_table

MORNING = 10


@dataclass(frozen=True)
class Ready:
    """``texts`` are (subject, preview, paragraphs) by step key; {agree} becomes the link that says yes."""

    name: str
    sentence: str
    ladder: Callable[[str, int], Ladder]  # purpose, the time in which 95% of answers come here
    texts: dict[int, tuple[str, str, list[str]]]


def _confirm(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "message", name="Please confirm"),
            Step(2, "repeat", of=1, wait=2 * DAY, hour=MORNING, subject="Still there? One press and you are in"),
            Step(3, "repeat", of=1, wait=4 * DAY, hour=MORNING, subject="The last time we ask"),
        ),
        Begin("awaits confirmation", purpose),
        Leave(confirmed=True),
    )


def _welcome(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "message", name="Welcome"),
            Step(2, "question", of=1, wait=3 * DAY),
            Step(3, "repeat", SECOND, of=1, subject="In case it slipped by: welcome"),
            Step(4, "wait", wait=2 * DAY, hour=MORNING),
            Step(5, "message", name="What there is"),
            Step(6, "question", of=5, wait=3 * DAY),
            Step(7, "repeat", SECOND, of=5, subject="Once more: what there is"),
            Step(8, "wait", wait=4 * DAY, hour=MORNING),
            Step(9, "message", name="Come and see"),
            Step(10, "label", name="welcomed"),
        ),
        Begin("confirms", purpose, a_day=400),
        Leave(booked=True),
    )


def _again(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "consent request", name="May we write to you?", purposes=(purpose,)),
            Step(2, "repeat", of=1, wait=14 * DAY, hour=MORNING, subject="One more time: may we write to you?"),
            Step(3, "wait", wait=14 * DAY),
            Step(4, "label", name="said nothing"),
        ),
        Begin("by hand", a_day=1900, first_day=300, by_lot=True),
        Leave(confirmed=True),
    )


def _win_back(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "message", name="Shall we keep writing?"),
            Step(2, "question", of=1, wait=10 * DAY, yes="8", no="go on"),
            Step(3, "message", name="What you missed"),
            Step(4, "question", of=3, wait=12 * DAY, yes="8", no="go on"),
            Step(5, "message", name="The last letter"),
            Step(6, "question", of=5, wait=13 * DAY, yes="8"),
            Step(7, "let go", SECOND),
            Step(9, "end", SECOND, meets=False),
            Step(8, "label", name="came back"),
        ),
        Begin("by hand", a_day=500, first_day=200, by_lot=True),
        Leave(),
    )


def _veiled(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "message", name="One press"),
            Step(2, "question", asks="clicked", of=1, wait=max(wait, 3 * DAY)),
            Step(3, "message", SECOND, name="One press, once more"),
            Step(4, "wait", SECOND, wait=max(wait, 3 * DAY)),
            Step(5, "question", asks="rule", rule="clicked at least 1 in 60 days", no=END),
            Step(6, "label", name="answers by clicking"),
        ),
        Begin("by hand", a_day=500),
    )


def _trial(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (
            Step(1, "message", name="Good to have you"),
            Step(2, "question", of=1, wait=wait),
            Step(3, "label", SECOND, name="no answer on trial"),
            Step(4, "end", SECOND, meets=False),
            Step(5, "label", name="proven on trial"),
        ),
        Begin("by hand", a_day=400, first_day=50, by_lot=True),
    )


def _yearly(purpose: str, wait: int) -> Ladder:
    return Ladder(
        (Step(1, "wait", hour=MORNING, own_zone=True), Step(2, "message", name="On your day")),
        Begin("a date", "", yearly=True, again_after=300 * DAY),
    )


READY = {
    "confirm": Ready(
        "Confirm a sign-up",
        "For people who came in without having confirmed: one letter and two reminders. Whoever confirms gets no more of "
        "them. Forms here ask by themselves; this is for everybody else.",
        _confirm,
        {
            1: (
                "Please confirm your address",
                "One press, and you are in.",
                [
                    "You, or somebody for you, left this address with us.",
                    "Press the link, and we write to you.",
                    "{agree}",
                    "If it was not you, do nothing: this ends by itself.",
                ],
            )
        },
    ),
    "welcome": Ready(
        "Welcome",
        "Three letters over nine days to whoever has just confirmed, each once more to those who did not open it.",
        _welcome,
        {
            1: (
                "Welcome: good to have you",
                "What we write, how often, and how to stop it.",
                [
                    "Dear {{ first_name or 'friend' }}, thank you for joining us.",
                    "You will hear from us about what is new. You can say what and how often at any time.",
                    '<a href="{{ preferences_url }}">What we write to you</a>',
                ],
            ),
            5: (
                "What there is to see",
                "The best of what is coming.",
                ["Dear {{ first_name or 'friend' }}, here is what others liked best when they were new here."],
            ),
            9: (
                "Come and see us",
                "An invitation.",
                ["Dear {{ first_name or 'friend' }}, you have heard from us for a while. Come and see for yourself."],
            ),
        },
    ),
    "again": Ready(
        "Ask for consent again",
        "For people you have a relation with and no consent of: asked once, and once more after a fortnight. Begins small.",
        _again,
        {
            1: (
                "May we write to you?",
                "One press says yes. Doing nothing says no.",
                [
                    "Dear {{ first_name or 'friend' }}, you know us, and we have no word from you that we may write. May we?",
                    "{agree}",
                    "If you do nothing, we leave it at that.",
                ],
            )
        },
    ),
    "win back": Ready(
        "Win back the Silent",
        "Up to three letters over five weeks. Whoever answers is kept and labelled; whoever does not is let go at the end.",
        _win_back,
        {
            1: (
                "Shall we keep writing to you?",
                "One press, and everything stays as it is.",
                [
                    "Dear {{ first_name or 'friend' }}, you have not opened a letter of ours for a long time.",
                    '<a href="{{ stay_url }}">Yes, keep writing to me</a>',
                ],
            ),
            3: (
                "What you missed",
                "A few things from the last months.",
                [
                    "Dear {{ first_name or 'friend' }}, this is what you missed. There is more where it came from.",
                    '<a href="{{ stay_url }}">Keep writing to me</a>',
                ],
            ),
            5: (
                "This is our last letter",
                "Unless you press.",
                [
                    "Dear {{ first_name or 'friend' }}, we would rather be missed than be a nuisance.",
                    "Without a word from you this was the last letter.",
                    '<a href="{{ stay_url }}">No, do keep writing</a>',
                ],
            ),
        },
    ),
    "veiled": Ready(
        "Ask the Veiled for a click",
        "Some mail readers hide whether a person reads. One press shows that somebody is there; asked twice at most.",
        _veiled,
        {
            1: (
                "One press, please",
                "So that we know we reach you.",
                [
                    "Dear {{ first_name or 'friend' }}, your mail reader keeps from us whether you read this; your good right.",
                    "One press tells us that it is worth writing.",
                    '<a href="{{ stay_url }}">I read you</a>',
                ],
            ),
            3: (
                "Are you there?",
                "One press is enough.",
                [
                    "Dear {{ first_name or 'friend' }}, once more, and then no more of this.",
                    '<a href="{{ stay_url }}">I read you</a>',
                ],
            ),
        },
    ),
    "trial": Ready(
        "New import on trial",
        "Fifty people by lot on the first day, then 400 a day. Whoever bounces leaves at once; whoever answers within the time "
        "that answers take here is labelled proven.",
        _trial,
        {
            1: (
                "Good to have you",
                "Who we are and why you get this.",
                [
                    "Dear {{ first_name or 'friend' }}, you gave us your address, and this is our first letter to you.",
                    '<a href="{{ preferences_url }}">What we write to you</a>',
                ],
            )
        },
    ),
    "yearly": Ready(
        "A yearly date",
        "One letter at ten in the morning of a person's own zone, on the day a field holds: a birthday, the day they joined.",
        _yearly,
        {2: ("On your day", "A small greeting.", ["Dear {{ first_name or 'friend' }}, all the best today."])},
    ),
}


def offered() -> list[dict[str, str]]:
    return [{"key": k, "name": r.name, "sentence": r.sentence} for k, r in READY.items()]


def take(desk: Desk, key: str, who: str) -> int:
    """A draft of one's own from a ready one, with its messages written; its id."""
    ready = READY.get(key)
    if ready is None:
        raise Missing(f"There is no ready sequence “{key}”; there are {', '.join(READY)}.")
    db = desk.store.read()
    purposes = [p for p in consent.purposes(db) if not p["transactional"]] or list(consent.purposes(db))
    if not purposes:
        raise Missing("There is no purpose yet that people can agree to; bring in people first.")
    given = consent.given_by_purpose(db)
    purpose, name, n = max(purposes, key=lambda p: given.get(p["id"], 0)), ready.name, 1
    while sequences.named(db, name):
        n += 1
        name = f"{ready.name} {n}"
    wait = max(HOUR, timing.usual_wait(desk.view()))
    id = writing.add(desk, name, who, ready.ladder(purpose["name"], wait))
    sound = {d["id"] for d in sender_table.domains(db) if d["state"] == "holds"}
    confirmed = sorted(
        (a for a in sender_table.addresses(db) if a["confirmed_at"]), key=lambda a: a["domain"] not in sound
    )
    values: dict[str, Any] = {"purpose": purpose["id"], "from_name": str(desk.setting("name") or "")}
    if confirmed:
        values["from_address"] = confirmed[0]["id"]
    writing.write(desk, id, values, who)
    mails = sequences.mails(db, id)
    for step, (subject, preview, paragraphs) in ready.texts.items():
        agree = f'<a href="{{{{ agree_{purpose["id"]} }}}}">Yes, write to me about {purpose["name"]}</a>'
        html = "\n".join(f"<p>{p.replace('{agree}', agree)}</p>" for p in paragraphs)
        campaigns.write(desk, mails[step]["id"], {"subject": subject, "preview": preview, "html": html})
    return id
