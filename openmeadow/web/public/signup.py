"""Pages where people join, confirm, and say what they want: plain HTML, no script, all of it by keyboard."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from html import escape
from urllib.parse import quote

from flask import Blueprint, Response, abort, request

from openmeadow.core.consent.eligibility import GIVEN, WITHDRAWN
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.subscribers import address_change, consent, signup
from openmeadow.services.subscribers.signup import FormPage, OfferedPurpose
from openmeadow.services.workspace import Workspace
from openmeadow.store.subscribers import consent as table
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.records import Purpose, SubscriberWithSource
from openmeadow.web.public.layout import TEST, message, page, test_page

HONEYPOT = "website"  # no person sees it; what fills it in is no person
PAUSES = (30, 90)


AWAY = "position:absolute;left:-9999px"  # in the element: the form stands on other people's pages too


def shown_field(purposes: Collection[OfferedPurpose | Purpose]) -> str:
    """Which wordings this page shows, so that what is recorded is what was read."""
    marks = ",".join(f"{p.id}:{p.wording_id}" for p in purposes if p.wording_id)
    return f'<input type="hidden" name="shown" value="{marks}">'


def shown_in(form: Mapping[str, str]) -> dict[int, int]:
    """Purpose -> wording, as a page says that it showed them."""
    out = {}
    for mark in form.get("shown", "")[:2_000].split(","):
        purpose, _, wording = mark.partition(":")
        if all(n.isascii() and n.isdigit() and len(n) < 16 for n in (purpose, wording)):
            out[int(purpose)] = int(wording)
    return out


def purpose_ids(given: Collection[str]) -> list[PurposeId]:
    """The ids among what a form sent; anything else is no id."""
    return [PurposeId(int(n)) for n in given if n.isascii() and n.isdigit() and len(n) < 16]


def page_shown() -> str:
    """The page that a form stood on, as the browser says it: another's where it was embedded."""
    return (request.referrer or request.base_url)[:300]


def fields_of(f: FormPage, email: str = "", name: str = "") -> str:
    """The fields of a list's form; purposes begin unticked."""
    who = (
        f'<label>Name<input name="name" autocomplete="name" maxlength="200" value="{escape(name)}"></label>'
        if f.ask_name
        else ""
    )
    boxes = "".join(
        f'<label class="tick"><input type="checkbox" name="purpose" value="{p.id}"> <span><b>{escape(p.name)}</b>'
        f"{'<br>' + escape(p.text) if p.text else ''}</span></label>"
        for p in f.purposes
    )
    return (
        f'<label>Email address<input name="email" type="email" autocomplete="email" required maxlength="254" '
        f'value="{escape(email)}"></label>{shown_field(f.purposes)}{who}'
        f"<fieldset><legend>I'd like to receive</legend>{boxes}</fieldset>"
        f'<div style="{AWAY}" aria-hidden="true"><label>Leave this empty<input name="{HONEYPOT}" tabindex="-1" '
        'autocomplete="off"></label></div><button>Sign up</button>'
    )


def _radio(name: str, value: str, words: str, *, checked: bool = False) -> str:
    mark = " checked" if checked else ""
    return f'<label class="tick"><input type="radio" name="{name}" value="{value}"{mark}> <span>{words}</span></label>'


def snippet(base: str, f: FormPage) -> str:
    """The form as plain HTML for somebody's own page."""
    return f'<form method="post" action="{base}/join/{quote(f.list_name)}">{fields_of(f)}</form>'


class FormPages:
    """The public pages where people sign up and set their preferences."""

    def __init__(self, workspace: Workspace, tokens: Tokens) -> None:
        self.workspace, self.tokens = workspace, tokens

    def join(self, list_name: str) -> Response:
        """The sign-up page of a list, and what is done with what was filled in."""
        try:
            f = signup.form(self.workspace, list_name)
        except Missing:
            abort(404)
        email, name, problem = request.form.get("email", ""), request.form.get("name", ""), ""
        if request.method == "POST":
            try:
                if not request.form.get(HONEYPOT):
                    chosen = purpose_ids(request.form.getlist("purpose"))
                    shown = shown_in(request.form)
                    signup.join(
                        self.workspace, list_name, email, name, chosen, request.remote_addr or "", shown, page_shown()
                    )
                done = (
                    "We have sent you an email. Open it and click the button to confirm. If it does not arrive within "
                    "a few minutes, check your spam folder."
                )
                return message("Almost done" if f.confirm else "Welcome", done if f.confirm else "You are subscribed.")
            except Refused as e:
                problem = f'<p class="wrong" role="alert">{escape(str(e))}</p>'
        intro = f"<p>{escape(f.intro)}</p>" if f.intro else ""
        body = f'{intro}{problem}<form method="post">{fields_of(f, email, name)}</form>'
        body += (
            f"<p class='small'>{escape(f.who)} uses your address only for what you select here. You can "
            "unsubscribe at any time.</p>"
        )
        return page(f"Sign up for {f.who}", body, 422 if problem else 200)

    def person_of(self, token: str) -> SubscriberWithSource:
        """The subscriber of a token; 404 where it is not ours."""
        found = self.tokens.read(token, "p")
        if found is not None and found.number == TEST:
            abort(test_page())
        row = subscribers.subscriber(self.workspace.store.read(), found.number) if found else None
        if row is None or row.erased_at:
            abort(404)
        return row

    def preferences(self, token: str) -> Response:
        """The preference page of a subscriber, and what they chose."""
        row = self.person_of(token)
        row_id, db = int(row.id), self.workspace.store.read()
        offered = [p for p in table.purposes(db) if not p.retired and not p.transactional]
        said, problem = "", ""
        if request.method == "POST":
            try:
                said = self._save(SubscriberId(row_id), offered)
            except Refused as e:
                problem = f'<p class="wrong" role="alert">{escape(str(e))}</p>'
        facts = self.workspace.view().facts
        at = self.workspace.index_of(self.workspace.view(), SubscriberId(row_id))
        at_most, paused = table.preferences(self.workspace.store.read(), SubscriberId(row_id))
        boxes = "".join(
            f'<label class="tick"><input type="checkbox" name="purpose" value="{p.id}"'
            f"{' checked' if facts.consent(p.name)[at] == GIVEN else ''}> <span><b>{escape(p.name)}</b>"  # type: ignore[attr-defined]
            f"{'<br>' + escape(p.text) if p.text else ''}</span></label>"
            for p in offered
        )
        choices = (("", "no limit"), ("week", "at most one a week"), ("month", "at most one a month"))
        often = "".join(_radio("at_most", v, words, checked=(at_most or "") == v) for v, words in choices)
        still = paused is not None and paused > self.workspace.now()
        rest = "".join(_radio("pause", str(days), f"pause for {days} days") for days in PAUSES)
        none = "keep the current pause" if still else "no pause"
        rest = (
            _radio("pause", "keep", none, checked=True) + rest + (_radio("pause", "0", "end the pause") if still else "")
        )
        note = f'<p class="good" role="status">{escape(said)}</p>' if said else problem
        body = (
            f"{note}<p>For {escape(row.email)}.</p><form method='post'>{shown_field(offered)}"
            f"<fieldset><legend>I'd like to receive</legend>{boxes}</fieldset>"
            f"<fieldset><legend>How often</legend>{often}</fieldset><fieldset><legend>Pause emails</legend>{rest}</fieldset>"
            '<label>New email address (optional)<input name="new_email" type="email" maxlength="254"></label>'
            '<button name="action" value="save">Save preferences</button> <button class="plain" name="action" '
            'value="unsubscribe">Unsubscribe from everything'
            "</button></form>"
        )
        return page("Email preferences", body, 422 if problem else 200)

    def _save(self, row_id: SubscriberId, offered: list[Purpose]) -> str:
        if request.form.get("action") == "unsubscribe":
            consent.stop_everything(self.workspace, row_id, "preference page")
            return "You are unsubscribed from everything, effective immediately."
        chosen, shown = set(purpose_ids(request.form.getlist("purpose"))), shown_in(request.form)
        facts, at = self.workspace.view().facts, self.workspace.index_of(self.workspace.view(), row_id)
        for p in offered:
            given = bool(facts.consent(p.name)[at] == GIVEN)  # type: ignore[attr-defined]
            if given is not (p.id in chosen):
                state = GIVEN if p.id in chosen else WITHDRAWN
                page = f"{self.workspace.setting('public_url')}/p"
                consent.said(self.workspace, row_id, p.id, state, "preference page", wording=shown.get(p.id), page=page)
        pause = request.form.get("pause", "keep")
        at_most = request.form.get("at_most") or None
        if pause == "keep":
            _, until = table.preferences(self.workspace.store.read(), row_id)
            with self.workspace.store.atomic() as db:
                consent.prefer(self.workspace, row_id, at_most, 0)
                table.prefer(db, row_id, at_most, until)
        else:
            consent.prefer(self.workspace, row_id, at_most, int(pause) if pause in map(str, (0, *PAUSES)) else 0)
        new = request.form.get("new_email", "").strip()
        if new:
            address_change.ask_new_address(self.workspace, row_id, new)
            return (
                f"Saved. If {new} can receive our emails, a message is on its way. Confirm it there to use that address."
            )
        return "Your preferences have been saved."


def make(workspace: Workspace, tokens: Tokens) -> Blueprint:
    """The public pages where people sign up and set their preferences."""
    bp, pages = Blueprint("forms", __name__), FormPages(workspace, tokens)
    bp.add_url_rule("/join/<path:list_name>", view_func=pages.join, methods=["GET", "POST"])
    bp.add_url_rule("/p/<token>", view_func=pages.preferences, methods=["GET", "POST"])
    return bp
