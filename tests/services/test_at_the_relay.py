"""The message as it arrives: the same as its preview, its test and its placement copy, whatever it was written in."""

from __future__ import annotations

import email
import email.policy
import re
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.errors import Refused
from openmeadow.services.campaigns import (
    campaigns,
    dispatcher,
    findings,
    message_conditions,
    message_source,
    preflight,
    preview,
)
from openmeadow.services.health import bounce_intake, placement
from openmeadow.store import settings
from openmeadow.store.campaigns import content as writing_table
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, mailing

URL = "https://www.kestrelquay.example/strings?utm_source=mail&a=1"
ONLY = "joined more than 30 days ago"
PASTED = f"""<html><head><style>.half{{width:50%}}@media (max-width:520px){{.half{{width:100%!important}}}}
@media (prefers-color-scheme:dark){{body{{background:#111!important}}}}</style></head><body><p class="half">Dear
{{{{ first_name or "friend" }}}}, <a href="{URL.replace("&", "&amp;")}">strings</a></p>
{{% if matches('{ONLY}') %}}<p>For you alone</p>{{% endif %}}</body></html>"""
KINDS: dict[str, dict[str, Any]] = {
    "blocks": {
        "blocks": [
            {"kind": "text", "html": "<p>Dear {{ first_name or 'friend' }},</p>"},
            {
                "kind": "columns",
                "left": [{"kind": "text", "html": "<p>L</p>"}],
                "right": [{"kind": "text", "html": "<p>R</p>"}],
            },
            {"kind": "button", "words": "strings", "href": URL},
            {"kind": "text", "html": "<p>For you alone</p>", "rule": ONLY},
        ]
    },
    "pasted HTML": {"html": PASTED},
    "plain text": {"html": "", "plain": f"Dear {{{{ first_name or 'friend' }}}},\n\nstrings: {URL}\n\nFor you alone\n"},
}
HEADERS = ("List-Unsubscribe-Post", "List-Id", "Feedback-ID", "Reply-To", "From", "DKIM-Signature")


def read(raw: bytes) -> EmailMessage:
    found = email.message_from_bytes(raw, policy=email.policy.default)
    assert isinstance(found, EmailMessage)
    return found


def without_addresses(text: str) -> str:
    """A part of a message without what is different from copy to copy: where its links lead."""
    return re.sub(r"(https?://|mailto:)[^\s\"'<>]+", "URL", text.replace("\r\n", "\n")).rstrip()


def parts_of(message: EmailMessage) -> dict[str, str]:
    return {p.get_content_subtype(): without_addresses(p.get_content()) for p in message.walk() if not p.is_multipart()}


def arrived(m: Mailing, mailbox: str) -> EmailMessage:
    return read(m.world.mailboxes[mailbox][-1]["source"].replace("\n", "\r\n").encode())


@pytest.mark.parametrize("kind", list(KINDS))
def test_what_arrives_is_what_was_shown(folder: Path, kind: str) -> None:
    with mailing(folder, 4) as m:
        plan = {"pilot_share": 0.0, "batches": 1, "resend": False}
        campaigns.write(
            m.workspace, m.campaign, KINDS[kind] | {"plan": plan, "preview": "Read on", "reply_to": "box@x.example"}
        )
        with m.workspace.store.atomic() as db:
            settings.set_setting(
                db, "seed_mailboxes", [{"provider": "Postern", "address": "seed@postern.example", "listing": ""}]
            )
        shown = preview.of(m.workspace, campaigns.row_of(m.workspace, m.campaign), 2)
        number = campaigns.test_message(m.workspace, m.campaign, "ada@saltmere.example", "test", 2)
        test = arrived(m, "ada@saltmere.example")
        assert (
            message_source.of_test(m.workspace, number).text.rstrip()
            == m.world.mailboxes["ada@saltmere.example"][-1]["source"].rstrip()
        )
        placement.start(m.workspace, m.campaign, "test")
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        real = arrived(m, "p1@postern.example")
        want = {"plain": without_addresses(shown.said.plain)}
        if shown.said.html:
            want["html"] = without_addresses(shown.said.html)
            for kept in ("@media", "For you alone", "P1"):
                assert kept in want["html"], "a person's own parts and fields, and the style sheets"
        assert parts_of(test) == parts_of(real) == want, "the same text but for where its links lead"
        assert test["Subject"] == f"[Test] {real['Subject']}"
        copy = arrived(m, "seed@postern.example")
        for name in HEADERS:
            assert test[name] and copy[name] and real[name], name
        for message in (test, copy, real):
            number = next(iter(re.findall(r"<mailto:u(\d+)-", message["List-Unsubscribe"])))
            assert (number != "0") == (message is real)
        assert "/c/" in real.as_string() and "/c/" not in test.as_string()
        (link,) = (r["url"] for r in m.workspace.store.read().execute("SELECT url FROM links WHERE NOT trap"))
        assert link == URL, "every character of it"
        delivery = next(d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.subscriber == 2)
        anew = message_source.of_delivery(m.workspace, delivery)
        assert anew.is_made_anew and anew.text.rstrip() == m.world.mailboxes["p1@postern.example"][-1]["source"].rstrip()
        assert {h.name for h in anew.headers if not h.meaning} == set(), "every header is explained"


def test_a_test_changes_nothing(folder: Path) -> None:
    with mailing(folder, 4) as m:
        campaigns.test_message(m.workspace, m.campaign, "ada@saltmere.example", "test", 1)
        way_out = arrived(m, "ada@saltmere.example")["List-Unsubscribe"]
        (address,) = re.findall(r"mailto:([^?>]+)", way_out)
        assert not bounce_intake.unsubscribe_by_mail(m.workspace, m.tokens, address)
        for i in range(writing_table.TEST_COPIES_KEPT + 3):
            with m.workspace.store.atomic() as db:
                writing_table.save_test_copy(db, m.campaign, i, "test", "a@x.example", b"x")
        kept = writing_table.test_copies(m.workspace.store.read(), m.campaign)
        assert len(kept) == writing_table.TEST_COPIES_KEPT
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "hidden_link", False)
        campaigns.test_message(m.workspace, m.campaign, "ada@saltmere.example", "test", 1)
        assert "/trap" not in arrived(m, "ada@saltmere.example").as_string(), "the hidden link can be switched off"


def test_a_condition_that_cannot_be_read_names_its_block(folder: Path) -> None:
    with mailing(folder, 4) as m:
        blocks = [
            {"kind": "text", "html": "<p>All</p>"},
            {"kind": "columns", "left": [{"kind": "text", "html": "<p>Some</p>", "rule": "band is Stong"}]},
            {"kind": "text", "html": "<p>Others</p>", "rule": 'in list "Nowhere"'},
        ]
        campaigns.write(m.workspace, m.campaign, {"blocks": blocks})
        row = campaigns.row_of(m.workspace, m.campaign)
        assert [(p.block, p.condition) for p in message_conditions.problems(m.workspace, row)] == [
            (2, "band is Stong"),
            (3, 'in list "Nowhere"'),
        ]
        stops = [c.finding for c in findings.stops(preflight.checks(m.workspace, row)) if c.check == "Conditions"]
        assert len(stops) == 2 and stops[0].startswith("Block 2 is shown only if “band is Stong”")
        shown = preview.of(m.workspace, row, 1)
        assert "All" in shown.said.html and "Some" not in shown.said.html and len(shown.problems) == 2
        with pytest.raises(Refused, match="Block 2"):
            campaigns.start(m.workspace, m.campaign, "test")
        assert DOMAIN in str(row.from_text)
