"""Pre-send checks of a campaign: what stops it, what is better mended, what is good to know, and where to mend it."""

from __future__ import annotations

import json
import re
from typing import Any

from openmeadow.core.message import checks as message_checks
from openmeadow.core.message.body import check_fields, links
from openmeadow.desk import senders
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, consent

PERSONAL = {"name", "first_name", "email"}
PAGES = {"preferences_url", "stay_url", "view_url"}  # addresses of pages of ours, for this person
_FIELD_ADDRESS = re.compile(r"""(["'])\s*\{\{[^"']*?\}\}\s*\1""")
FIELD = re.compile(r"\{\{.*?\}\}|\{%.*?%\}", re.S)  # stands for what it will be filled in with


def without_fields(text: str) -> str:
    """A text with its personal fields filled in by something short, addresses by one that leads nowhere else."""
    return FIELD.sub("Name", _FIELD_ADDRESS.sub('"tel:0"', text))


def known_fields(desk: Desk, row: Any) -> set[str]:
    """The personal fields a campaign's text may use."""
    own = {r["name"] for r in desk.store.read().execute("SELECT name FROM field_names")}
    return PERSONAL | PAGES | own | set(asked_about(desk, row))


def asked_about(desk: Desk, row: Any) -> dict[str, tuple[int, str]]:
    """What a consent request asks: field name -> (purpose, its name)."""
    ids = {p["name"]: p["id"] for p in consent.purposes(desk.store.read())}
    return {f"agree_{ids[name]}": (ids[name], name) for name in json.loads(row["asks"]) if name in ids}


def checks(desk: Desk, row: Any) -> list[dict[str, str]]:
    """Pre-send checks: each with level stop, mend or note, and what was found."""
    out = []

    def add_check(level: str, check: str, finding: str) -> None:
        out.append({"check": check, "level": level, "finding": finding})

    for name, words in (
        ("purpose", "Say what this mail is about: choose a purpose."),
        ("from_text", "Choose a from-address."),
        ("subject", "Write a subject."),
        ("html", "Write the message."),
    ):
        if not row[name]:
            add_check(
                "stop", {"purpose": "Purpose", "from_text": "From", "subject": "Subject", "html": "Message"}[name], words
            )
    if row["from_text"] and not row["confirmed_at"]:
        add_check("stop", "From", f"{row['from_text']} has not been confirmed; press the link mailed to it.")
    if row["from_text"] and (alike := senders.looks_like(desk, row["domain_name"])):
        add_check("mend", "From", f"{row['from_text']} looks like {alike} and is not; readers are warned of such names.")
    if row["from_text"] and row["domain_state"] == "broken":
        add_check("stop", "Sender", f"A record of {row['domain_name']} is broken; see Senders.")
    elif row["from_text"] and row["domain_state"] != "holds":
        add_check("mend", "Sender", f"{row['domain_name']}: {row['domain_state']}; see Senders.")
    for text in (row["subject"], row["html"], row["plain"]):
        for problem in check_fields(text, known_fields(desk, row)):
            add_check("stop", "Personal fields", problem)
    for field, (_, name) in asked_about(desk, row).items():
        if field not in row["html"]:
            add_check("stop", "Consent", f"Nothing in the message says yes to {name}: put {{{{ {field} }}}} as a link.")
    if row["html"]:
        hidden = f'<div style="display:none">{row["preview"]}</div>' if row["preview"] else ""
        said = message_checks.of_html(hidden + without_fields(row["html"]))
        if row["subject"]:
            said += message_checks.of_subject(without_fields(row["subject"]))
        for found in said:
            add_check(found.level, found.check, found.finding)
        if not links(row["html"]):
            add_check("note", "Links", "There is no link, so an open is the only answer that can be seen.")
        if not desk.setting("postal_address"):
            add_check("mend", "Postal address", "No postal address is set for the workspace.")
    if not json.loads(row["segments_in"]) and not campaigns.people(desk.store.read(), row["id"], "in"):
        add_check("stop", "Recipients", "No segment is chosen.")
    unique: list[dict[str, str]] = []
    for c in out:
        if c not in unique:
            unique.append(c)
    return sorted(unique, key=lambda c: ("stop", "mend", "note").index(c["level"]))
