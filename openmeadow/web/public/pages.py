"""What mail leads back to: open picture, links, unsubscribe, confirmation. Tampered tokens get a plain 404."""

from __future__ import annotations

import base64
from collections.abc import Callable
from html import escape
from typing import Any

from flask import Blueprint, Response, abort, redirect, request

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.body import FieldMistake
from openmeadow.desk import answers, asking, joining, pictures, round_trip, senders, writer
from openmeadow.desk.desk import Desk
from openmeadow.store import consent as consent_table
from openmeadow.store import ledger
from openmeadow.web.public import forms
from openmeadow.web.public.paper import TEST, message, test_page
from openmeadow.wire.tokens import Meant, Tokens

PICTURE = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")


# by the kind of token: what the page asks, explains, its button, and what it says afterwards
KINDS = {
    "k": (
        "Is this address yours?",
        "Press the button to let this workspace send mail from it.",
        "Yes, confirm it",
        "{} may now be used as a from-address.",
    ),
    "s": (
        "Was it you?",
        "Press the button and you are on the list. If you did not ask for this, close the page: you are not on it, and we "
        "ask at most twice more.",
        "Yes, I want to join",
        "You are on the list {}. Every message has a link to leave it.",
    ),
    "a": (
        "Is this your new address?",
        "Press the button and our mail goes here from now on.",
        "Yes, use it",
        "Our mail goes to {}.",
    ),
    "r": (
        "Shall we write to you about this?",
        "Press the button and we do. You can stop it at any time, by the link in every message.",
        "Yes, write to me",
        "We write to you about {}.",
    ),
    "w": (
        "Shall we keep writing to you?",
        "Press the button and we do. Without it we will let you go, and write no more.",
        "Yes, keep writing",
        "You stay with {}.",
    ),
}


def _asked(desk: Desk, what: Meant) -> tuple[str, str, str]:
    """What a page asks, explains, and keeps for its button: the wording that it shows."""
    question, text, *_ = KINDS[what.kind]
    if what.kind == "r" and (purpose := consent_table.purpose(desk.store.read(), what.link)) is not None:
        question = f"Shall we write to you about {purpose['name']}?"
        return question, " ".join(t for t in (purpose["text"] or "", text) if t), forms.shown_field([purpose])
    if what.kind == "s":
        return (
            question,
            text,
            "".join(f"<p><b>{escape(n)}</b><br>{escape(t)}</p>" for n, t in joining.agrees_to(desk, what.number)),
        )
    return question, text, ""


def _does(desk: Desk, what: Meant, agent: str, ip: str) -> str:
    """What a button does; the word its page says afterwards."""
    acts: dict[str, Callable[[], str]] = {
        "k": lambda: senders.confirm(desk, what.number),
        "s": lambda: joining.confirm(desk, what.number),
        "a": lambda: joining.change_address(desk, what.number),
        "r": lambda: asking.agree(desk, what.number, what.link, agent, ip, shown=forms.shown_in(request.form)),
        "w": lambda: asking.stay(desk, what.number, agent, ip),
    }
    return acts[what.kind]()


def make(desk: Desk, tokens: Tokens) -> Blueprint:
    """The public pages of a workspace."""
    bp = Blueprint("public", __name__)

    def meant(token: str, kind: str) -> Meant:
        found = tokens.read(token, kind)
        if found is None:
            abort(404)
        if found.number == TEST and kind not in "oc":
            abort(test_page())
        return found

    def visitor() -> tuple[str, str]:
        return request.headers.get("User-Agent", "")[:500], request.remote_addr or ""

    @bp.get("/o/<token>")
    def opened(token: str) -> Any:
        answers.opened(desk, meant(token, "o").number, *visitor())
        return Response(PICTURE, mimetype="image/gif", headers={"Cache-Control": "no-store"})

    @bp.get("/c/<token>")
    def clicked(token: str) -> Any:
        found = meant(token, "c")
        url = answers.clicked(desk, found.number, found.link, *visitor(), tokens.make("b", found.number))
        return redirect(url) if url else abort(404)

    @bp.route("/b/<token>", methods=["GET", "POST"])
    def booked(token: str) -> Any:
        """A booking told back by the place a tracked link led to: ``value`` and a ``reference`` of its own, as a form, in
        the query, or by a picture of one pixel."""
        found = meant(token, "b")
        try:
            value = float(request.values.get("value", "0") or 0)
            answers.booked(desk, found.number, value, request.values.get("reference", ""))
        except (ValueError, Refused) as e:
            return Response(str(e) if isinstance(e, Refused) else "The value is no number.", 400, mimetype="text/plain")
        except Missing:
            abort(404)
        return Response(PICTURE, mimetype="image/gif", headers={"Cache-Control": "no-store"})

    @bp.route("/u/<token>", methods=["GET", "POST"])
    def unsubscribe(token: str) -> Any:
        if request.method == "POST" and (proof := tokens.read(token, "q")) is not None:
            round_trip.pressed(desk, proof.number)
            return message("The way back works", "This was a message that goes round.")
        found = meant(token, "u")
        d = ledger.delivery(desk.store.read(), found.number)
        if d is None:
            abort(404)
        if request.method == "POST":
            answers.unsubscribed(desk, found.number)
            return message("You are unsubscribed", "No more of this mail will come to you. It took effect at once.")
        purpose = desk.store.read().execute("SELECT name FROM purposes WHERE id = ?", (d["purpose"],)).fetchone()
        return message(
            f"Stop {purpose['name'] if purpose else 'this mail'}?",
            "Press the button and no more of it will come to you.",
            "Unsubscribe",
            f'<p><a href="/p/{tokens.make("p", d["subscriber"])}">Or choose what we write to you, and how often</a></p>',
        )

    @bp.route("/k/<token>", methods=["GET", "POST"])
    def confirm(token: str) -> Any:
        """Only the POST confirms, so that machines that follow links confirm nobody."""
        what = next((f for kind in KINDS if (f := tokens.read(token, kind)) is not None), None)
        if what is None:
            abort(404)
        if what.number == TEST:
            return test_page()
        *_, button, done = KINDS[what.kind]
        question, text, within = _asked(desk, what)
        if request.method != "POST":
            return message(question, text, button, within=within)
        try:
            return message("Confirmed", done.format(_does(desk, what, *visitor())))
        except Missing:
            abort(404)
        except Refused as e:
            return message("Not changed", str(e))

    @bp.get("/m/<token>")
    def in_browser(token: str) -> Any:
        try:
            said = writer.in_browser(desk, tokens, meant(token, "m").number)
        except (Missing, FieldMistake):
            abort(404)
        return Response(said.html or f"<pre>{escape(said.plain)}</pre>", mimetype="text/html")

    @bp.get("/f/<name>")
    def picture(name: str) -> Any:
        """A picture of a message; its name is made from what is in it, so it never changes."""
        try:
            path, kind = pictures.file_of(desk, name)
        except Missing:
            abort(404)
        headers = {"Cache-Control": "public, max-age=31536000, immutable"}
        return Response(path.read_bytes(), mimetype=kind, headers=headers)

    @bp.get("/trap")
    def trap() -> Any:
        return Response("", status=204)

    @bp.errorhandler(404)
    def not_found(_: Any) -> Any:
        return Response("Not found\n", 404, mimetype="text/plain")

    return bp
