"""Pages where people join, confirm, and say what they want: plain HTML, no script, all of it by keyboard."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from html import escape
from typing import Any
from urllib.parse import quote

from flask import Blueprint, Response, abort, request

from openmeadow.core.consent.gate import GIVEN, WITHDRAWN
from openmeadow.core.errors import Missing, Refused
from openmeadow.desk import consent, joining
from openmeadow.desk.desk import Desk
from openmeadow.store import consent as table
from openmeadow.store import subscribers
from openmeadow.web.public.paper import TEST, message, page, test_page
from openmeadow.wire.tokens import Tokens

HONEYPOT = "website"  # no person sees it; what fills it in is no person
PAUSES = (30, 90)


AWAY = "position:absolute;left:-9999px"  # in the element: the form stands on other people's pages too


def shown_field(purposes: Collection[Any]) -> str:
    """Which wordings this page shows, so that what is recorded is what was read."""
    marks = ",".join(f"{p['id']}:{p['wording_id']}" for p in purposes if p["wording_id"])
    return f'<input type="hidden" name="shown" value="{marks}">'


def shown_in(form: Mapping[str, str]) -> dict[int, int]:
    """Purpose -> wording, as a page says that it showed them."""
    out = {}
    for mark in form.get("shown", "")[:2_000].split(","):
        purpose, _, wording = mark.partition(":")
        if all(n.isascii() and n.isdigit() and len(n) < 16 for n in (purpose, wording)):
            out[int(purpose)] = int(wording)
    return out


def numbers(given: Collection[str]) -> list[int]:
    """The ids among what a form sent; anything else is no id."""
    return [int(n) for n in given if n.isascii() and n.isdigit() and len(n) < 16]


def page_shown() -> str:
    """The page that a form stood on, as the browser says it: another's where it was embedded."""
    return (request.referrer or request.base_url)[:300]


def fields_of(f: dict[str, Any], email: str = "", name: str = "") -> str:
    """The fields of a list's form; purposes begin unticked."""
    who = (
        f'<label>Name<input name="name" autocomplete="name" maxlength="200" value="{escape(name)}"></label>'
        if f["ask_name"]
        else ""
    )
    boxes = "".join(
        f'<label class="tick"><input type="checkbox" name="purpose" value="{p["id"]}"> <span><b>{escape(p["name"])}</b>'
        f"{'<br>' + escape(p['text']) if p['text'] else ''}</span></label>"
        for p in f["purposes"]
    )
    return (
        f'<label>Email address<input name="email" type="email" autocomplete="email" required maxlength="254" '
        f'value="{escape(email)}"></label>{shown_field(f["purposes"])}{who}'
        f"<fieldset><legend>Write to me about</legend>{boxes}</fieldset>"
        f'<div style="{AWAY}" aria-hidden="true"><label>Leave this empty<input name="{HONEYPOT}" tabindex="-1" '
        'autocomplete="off"></label></div><button>Join</button>'
    )


def _radio(name: str, value: str, words: str, *, checked: bool = False) -> str:
    mark = " checked" if checked else ""
    return f'<label class="tick"><input type="radio" name="{name}" value="{value}"{mark}> <span>{words}</span></label>'


def snippet(base: str, f: dict[str, Any]) -> str:
    """The form as plain HTML for somebody's own page."""
    return f'<form method="post" action="{base}/join/{quote(f["list"])}">{fields_of(f)}</form>'


def make(desk: Desk, tokens: Tokens) -> Blueprint:
    bp = Blueprint("forms", __name__)

    @bp.route("/join/<path:list_name>", methods=["GET", "POST"])
    def join(list_name: str) -> Response:
        try:
            f = joining.form(desk, list_name)
        except Missing:
            abort(404)
        email, name, problem = request.form.get("email", ""), request.form.get("name", ""), ""
        if request.method == "POST":
            try:
                if not request.form.get(HONEYPOT):
                    chosen = numbers(request.form.getlist("purpose"))
                    shown = shown_in(request.form)
                    joining.join(desk, list_name, email, name, chosen, request.remote_addr or "", shown, page_shown())
                done = (
                    "If this address can take our mail, a message is there within a few minutes; look into the spam folder "
                    "too. You are on the list once you open its link and press the button."
                )
                return message(
                    "Nearly there" if f["confirm"] else "Welcome", done if f["confirm"] else "You are on the list."
                )
            except Refused as e:
                problem = f'<p class="wrong" role="alert">{escape(str(e))}</p>'
        intro = f"<p>{escape(f['intro'])}</p>" if f["intro"] else ""
        body = f'{intro}{problem}<form method="post">{fields_of(f, email, name)}</form>'
        body += f"<p class='small'>{escape(f['who'])} keeps your address for what you tick here; you can leave at any time.</p>"
        return page(f"Join {f['who']}", body, 422 if problem else 200)

    def person_of(token: str) -> Any:
        found = tokens.read(token, "p")
        if found is not None and found.number == TEST:
            abort(test_page())
        row = subscribers.subscriber(desk.store.read(), found.number) if found else None
        if row is None or row["erased_at"]:
            abort(404)
        return row

    @bp.route("/p/<token>", methods=["GET", "POST"])
    def preferences(token: str) -> Response:
        row = person_of(token)
        id, db = int(row["id"]), desk.store.read()
        offered = [p for p in table.purposes(db) if not p["left_out"] and not p["transactional"]]
        said, problem = "", ""
        if request.method == "POST":
            try:
                said = _save(id, offered)
            except Refused as e:
                problem = f'<p class="wrong" role="alert">{escape(str(e))}</p>'
        facts = desk.view().facts
        at = desk.index_of(desk.view(), id)
        at_most, paused = table.preferences(desk.store.read(), id)
        boxes = "".join(
            f'<label class="tick"><input type="checkbox" name="purpose" value="{p["id"]}"'
            f"{' checked' if facts.consent(p['name'])[at] == GIVEN else ''}> <span><b>{escape(p['name'])}</b>"  # type: ignore[attr-defined]
            f"{'<br>' + escape(p['text']) if p['text'] else ''}</span></label>"
            for p in offered
        )
        choices = (("", "as often as you write"), ("week", "at most one a week"), ("month", "at most one a month"))
        often = "".join(_radio("at_most", v, words, checked=(at_most or "") == v) for v, words in choices)
        still = paused is not None and paused > desk.now()
        rest = "".join(_radio("pause", str(days), f"a pause of {days} days") for days in PAUSES)
        none = "the pause I am in goes on" if still else "no pause"
        rest = (
            _radio("pause", "keep", none, checked=True) + rest + (_radio("pause", "0", "end the pause") if still else "")
        )
        note = f'<p class="good" role="status">{escape(said)}</p>' if said else problem
        body = (
            f"{note}<p>For {escape(row['email'])}.</p><form method='post'>{shown_field(offered)}"
            f"<fieldset><legend>Write to me about</legend>{boxes}</fieldset>"
            f"<fieldset><legend>How often</legend>{often}</fieldset><fieldset><legend>For a while</legend>{rest}</fieldset>"
            '<label>Another address, if your mail should go there<input name="new_email" type="email" maxlength="254"></label>'
            '<button name="act" value="save">Save</button> <button class="plain" name="act" value="stop">Stop everything'
            "</button></form>"
        )
        return page("What we write to you", body, 422 if problem else 200)

    def _save(id: int, offered: list[Any]) -> str:
        if request.form.get("act") == "stop":
            consent.stop_everything(desk, id, "preference page")
            return "Nothing more will come to you. It took effect at once."
        chosen, shown = set(numbers(request.form.getlist("purpose"))), shown_in(request.form)
        facts, at = desk.view().facts, desk.index_of(desk.view(), id)
        for p in offered:
            given = bool(facts.consent(p["name"])[at] == GIVEN)  # type: ignore[attr-defined]
            if given is not (p["id"] in chosen):
                state = GIVEN if p["id"] in chosen else WITHDRAWN
                page = f"{desk.setting('public_url')}/p"
                consent.said(desk, id, p["id"], state, "preference page", wording=shown.get(p["id"]), page=page)
        pause = request.form.get("pause", "keep")
        at_most = request.form.get("at_most") or None
        if pause == "keep":
            _, until = table.preferences(desk.store.read(), id)
            with desk.store.atomic() as db:
                consent.prefer(desk, id, at_most, 0)
                table.prefer(db, id, at_most, until)
        else:
            consent.prefer(desk, id, at_most, int(pause) if pause in map(str, (0, *PAUSES)) else 0)
        new = request.form.get("new_email", "").strip()
        if new:
            joining.ask_new_address(desk, id, new)
            return (
                f"Saved. If {new} can take our mail, a message is there soon; your mail goes there once you confirm it."
            )
        return "Saved. It took effect at once."

    return bp
