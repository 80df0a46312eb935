"""What was looked at before a send and is in order: the other side of the findings, so that silence is no riddle."""

from __future__ import annotations

import json
from typing import Any

from openmeadow.core.message.body import links
from openmeadow.desk import checking
from openmeadow.desk.desk import Desk

# (check, what is so when nothing was found, what must be there for it to have been looked at)
IN_ORDER = (
    ("Sender", "SPF, DKIM and DMARC of the domain hold.", "from"),
    ("From", "The address is confirmed, of your own domain, and looks like nobody else's.", "from"),
    ("Alignment", "It is signed in the name that readers see.", "message"),
    ("One-click", "One press unsubscribes, and the signature covers that (RFC 8058).", "message"),
    ("Unsubscribe", "The text shows a way to unsubscribe.", "message"),
    ("Postal address", "It stands at the end.", "message"),
    ("Personal fields", "Each can be filled in, for everybody.", "recipients"),
    ("Links", "They answer and are what they say.", "links"),
    ("Size", "The HTML is under 100 kB.", "html"),
    ("Plain text", "There is a plain-text version.", "message"),
    ("Pictures", "They have alternative text, and text stands beside them.", "html"),
    ("HTML", "Mail readers drop nothing of it.", "html"),
    ("Subject", "It fits a phone, does not shout and does not pretend to be an answer.", "message"),
    ("Preview text", "It has 40 to 100 characters.", "html"),
    ("Consent wording", "There is a wording that people agreed to.", "purpose"),
    ("Engagement", "Few are Silent, Unproven or Veiled.", "recipients"),
    ("Addresses", "All are checked, none is bad or risky.", "recipients"),
    ("Volume", "No provider gets far more than in the last 30 days.", "recipients"),
    ("Rest", "They were written to lately.", "recipients"),
    ("Other plans", "None collides with it on the same day.", "recipients"),
    ("Placement", "The test copies reached the inbox.", "boxes"),
)


def holding(desk: Desk, row: Any, found: list[dict[str, Any]]) -> list[dict[str, str]]:
    """{"check", "words"} of what was looked at and is in order, given what was found."""
    written = checking.as_it_goes(desk, row) is not None and bool(row["html"].strip() or row["plain"].strip())
    nobody = bool(row["sequence"]) or any(f["check"] == "Recipients" for f in found)
    there = {
        "from": bool(row["from_text"]),
        "purpose": bool(row["purpose"]),
        "message": written,
        "html": written and bool(row["html"].strip()),
        "links": written and bool(links(row["html"])),
        "recipients": not nobody,
        "boxes": bool(desk.setting("placement_boxes")) and written,
    }
    wrong = {f["check"] for f in found}
    if json.loads(row["asks"]):
        wrong.add("Consent wording")  # it asks for consent itself
    return [{"check": check, "words": words} for check, words, needs in IN_ORDER if there[needs] and check not in wrong]
