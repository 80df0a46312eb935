"""The tables of exported columns: what each holds, and of which type. A reader elsewhere needs nothing else.

Moments are UTC seconds, empty for never. A table with ``split`` is a folder of files: by the month of that moment, or by
model."""

from __future__ import annotations

from dataclasses import dataclass

SCHEMA_VERSION = 2  # 2: resends
WHOLE, REAL, TEXT, TRUTH = "BIGINT", "DOUBLE", "VARCHAR", "BOOLEAN"


@dataclass(frozen=True)
class Column:
    """One column; ``empty`` where it may be."""

    name: str
    type: str
    about: str
    empty: bool = False


@dataclass(frozen=True)
class Table:
    """One table; ``split`` names the column by which it stands in several files."""

    name: str
    about: str
    columns: tuple[Column, ...]
    split: str = ""


_PERSON = Column("person", WHOLE, "number of the subscriber, as in people")
_MESSAGE = Column("message", WHOLE, "number of the message, as in messages")
TABLES: tuple[Table, ...] = (
    Table(
        "people",
        "one row a subscriber who is not erased",
        (
            _PERSON,
            Column("email", TEXT, "address"),
            Column("name", TEXT, "name", True),
            Column("joined_at", WHOLE, "when they joined"),
            Column("rejoined_at", WHOLE, "consent given again after an unsubscribe", True),
            Column("source", TEXT, "source of the first joining", True),
            Column("provider", TEXT, "mailbox provider", True),
            Column("language", TEXT, "language tag", True),
            Column("country", TEXT, "country code", True),
            Column("time_zone", TEXT, "zone name", True),
            Column("address", TEXT, "verdict of the latest address check, or not checked"),
            Column("model", TEXT, "which rows of chances hold for them while their opens can be seen"),
        ),
    ),
    Table(
        "deliveries",
        "one row a person and message; the first of each, however often it was sent",
        (
            _PERSON,
            _MESSAGE,
            Column("first_at", WHOLE, "when it was first sent"),
            Column("failed_at", WHOLE, "when the last of its sends had bounced", True),
            Column("opened_at", WHOLE, "first open or click that is not a machine's", True),
            Column("clicked_at", WHOLE, "first click that is not a machine's", True),
            Column("reacted_at", WHOLE, "first click, reply or booking that is not a machine's", True),
            Column("machine_at", WHOLE, "first open or click of a machine", True),
        ),
        "first_at",
    ),
    Table(
        "engagement",
        "every open, click, reply and booking",
        (
            _PERSON,
            Column("message", WHOLE, "number of the message", True),
            Column("at", WHOLE, "when"),
            Column("kind", TEXT, "opened, clicked, replied or booked"),
            Column("made_by", TEXT, "person, machine or unsure"),
            Column("value", REAL, "worth of a booking"),
        ),
        "at",
    ),
    Table(
        "bounces",
        "every bounce, complaint and unsubscribe",
        (
            _PERSON,
            Column("message", WHOLE, "number of the message", True),
            Column("at", WHOLE, "when it became known"),
            Column("what", TEXT, "hard, soft, blocked, unknown, complained or unsubscribed"),
        ),
    ),
    Table(
        "consent",
        "the latest entry a person, purpose and channel",
        (
            _PERSON,
            Column("purpose", TEXT, "what the mail is about"),
            Column("channel", TEXT, "email, post or phone"),
            Column("state", TEXT, "given, withdrawn, pending or none"),
            Column("at", WHOLE, "of the latest entry"),
            Column("given_at", WHOLE, "since when it stands as given", True),
            Column("source", TEXT, "stated source of the latest entry", True),
        ),
    ),
    Table(
        "permitted",
        "who may be mailed for a purpose, as of the export, leaving out the limit of messages",
        (_PERSON, Column("purpose", TEXT, "what the mail is about")),
    ),
    Table(
        "suppressions",
        "who is not mailed, and why",
        (_PERSON, Column("reason", TEXT, "reason"), Column("at", WHOLE, "since when")),
    ),
    Table(
        "lists",
        "members of lists",
        (_PERSON, Column("list", TEXT, "name of the list"), Column("at", WHOLE, "since when")),
    ),
    Table("labels", "who has which label", (_PERSON, Column("label", TEXT, "name of the label"))),
    Table(
        "fields",
        "fields that hold something",
        (
            _PERSON,
            Column("field", TEXT, "name of the field"),
            Column("value", TEXT, "as text"),
            Column("number", REAL, "the same where it is a number", True),
            Column("day", TEXT, "the same where it is a date, YYYY-MM-DD", True),
        ),
    ),
    Table("messages", "names of messages", (_MESSAGE, Column("name", TEXT, "name"))),
    Table(
        "resends",
        "who was sent a message again, because they had not engaged with it",
        (_PERSON, Column("message", WHOLE, "number of the message", True), Column("at", WHOLE, "when")),
    ),
    Table(
        "snapshots",
        "people of snapshots of segments",
        (
            _PERSON,
            Column("snapshot", WHOLE, "number of the snapshot"),
            Column("segment", TEXT, "name of the segment"),
            Column("day", TEXT, "YYYY-MM-DD, UTC"),
        ),
    ),
    Table(
        "sequences",
        "who is or was in which sequence",
        (
            _PERSON,
            Column("sequence", TEXT, "name of the sequence"),
            Column("step", WHOLE, "key of the step at which they are", True),
            Column("entered_at", WHOLE, "when they entered"),
            Column("left_at", WHOLE, "when they left", True),
            Column("finished", TRUTH, "whether they came to its end"),
        ),
    ),
    Table(
        "chances",
        "the fitted model as a table: by messages engaged with (x) of those that counted (n), the last of them at place t",
        (
            Column("model", TEXT, "reading, clicking, or the number of a source"),
            Column("x", WHOLE, "messages engaged with"),
            Column("t", WHOLE, "place of the last of them"),
            Column("n", WHOLE, "messages that counted"),
            Column("active", REAL, "chance that they are still active"),
            Column("chance", REAL, "chance that they engage with the next message"),
        ),
        "model",
    ),
    Table(
        "parameters",
        "what the models were fitted to",
        (
            Column("model", TEXT, "reading, clicking, or the number of a source"),
            Column("name", TEXT, "alpha, beta, gamma, delta, and what the last mailings moved"),
            Column("value", REAL, "value"),
        ),
    ),
)
BY_NAME = {t.name: t for t in TABLES}
