"""What was looked at before a send and is in order: the other side of the findings, so that silence is no riddle."""

from __future__ import annotations

from openmeadow.core.message.personalisation import links
from openmeadow.services import models
from openmeadow.services.campaigns import preflight
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign

# (check, what is so when nothing was found, what must be there for it to have been looked at)
IN_ORDER = (
    ("Sender", "SPF, DKIM and DMARC pass.", "from"),
    ("From", "The address is confirmed, on your own domain, and no lookalike.", "from"),
    ("Alignment", "DKIM is aligned with the From domain.", "message"),
    ("One-click unsubscribe", "One-click unsubscribe is present and signed (RFC 8058).", "message"),
    ("Unsubscribe", "There is an unsubscribe link.", "message"),
    ("Postal address", "Present in the footer.", "message"),
    ("Merge fields", "All can be filled for every recipient.", "recipients"),
    ("Links", "All links work and match their text.", "links"),
    ("Size", "The HTML is under 100 kB.", "html"),
    ("Plain text", "There is a plain-text version.", "message"),
    ("Images", "All have alt text, and there is enough text.", "html"),
    ("HTML", "All HTML is supported by mail clients.", "html"),
    ("Subject", "Fits on a phone; no all-caps, no fake “Re:”.", "message"),
    ("Wording", "Nothing that presses or shouts; links say where they lead.", "message"),
    ("Preview text", "40 to 100 characters.", "html"),
    ("Consent wording", "The purpose has a consent wording.", "purpose"),
    ("Engagement", "Few are Inactive, Unproven or Masked.", "recipients"),
    ("Addresses", "All are checked, none is undeliverable or risky.", "recipients"),
    ("Volume", "No provider receives far more than in the last 30 days.", "recipients"),
    ("Dormancy", "All were mailed recently.", "recipients"),
    ("Overlapping campaigns", "None on the same day.", "recipients"),
    ("Placement", "The test copies reached the inbox.", "boxes"),
)


def passed(workspace: Workspace, row: Campaign, found: list[models.Check]) -> list[models.InOrder]:
    """What was looked at and is in order, given what was found."""
    written = preflight.as_it_goes(workspace, row) is not None and bool(row.html.strip() or row.plain.strip())
    nobody = bool(row.sequence) or any(f.check == "Recipients" for f in found)
    there = {
        "from": bool(row.from_text),
        "purpose": bool(row.purpose),
        "message": written,
        "html": written and bool(row.html.strip()),
        "links": written and bool(links(row.html, row.plain)),
        "recipients": not nobody,
        "boxes": bool(workspace.setting("seed_mailboxes")) and written,
    }
    wrong = {f.check for f in found}
    if row.asks:
        wrong.add("Consent wording")  # it asks for consent itself
    return [
        models.InOrder(check=check, words=words)
        for check, words, needs in IN_ORDER
        if there[needs] and check not in wrong
    ]
