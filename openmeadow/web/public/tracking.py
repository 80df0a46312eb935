"""What mail leads back to: open image, links, unsubscribe, confirmation. Tampered tokens get a plain 404."""

from __future__ import annotations

import base64
from collections.abc import Callable
from html import escape

from flask import Blueprint, Response, abort, redirect, request
from werkzeug.wrappers import Response as BaseResponse

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import DeliveryId, PurposeId
from openmeadow.core.message.personalisation import FieldMistake
from openmeadow.net.signed_tokens import Meant, Tokens
from openmeadow.services.campaigns import images, renderer, tracking
from openmeadow.services.campaigns.arrivals import Arrivals
from openmeadow.services.senders import domains, round_trip_test
from openmeadow.services.subscribers import address_change, reconsent, signup
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries
from openmeadow.store.subscribers import consent as consent_table
from openmeadow.web.public import signup as signup_api
from openmeadow.web.public.layout import TEST, message, test_page

LONGEST_AGENT = 500  # letters kept of what a mail reader says it is
PICTURE = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")


# by the kind of token: what the page asks, explains, its button, and what it says afterwards
KINDS = {
    "k": (
        "Confirm this address",
        "Click the button to allow this workspace to send mail from this address.",
        "Confirm address",
        "{} can now be used as a from address.",
    ),
    "s": (
        "Confirm your subscription",
        "Click the button to subscribe. If this wasn't you, just close this page.",
        "Confirm subscription",
        "You are subscribed to {}. Every email has a link to unsubscribe.",
    ),
    "a": (
        "Confirm your new address",
        "Click the button to receive our emails at this address.",
        "Confirm new address",
        "We will email you at {} from now on.",
    ),
    "r": (
        "Would you like to receive this?",
        "Click the button to agree. You can unsubscribe at any time by the link in every email.",
        "Yes, subscribe me",
        "You will now receive {}.",
    ),
    "w": (
        "Stay subscribed?",
        "Click to stay subscribed. If you do nothing, we will stop emailing you.",
        "Keep me subscribed",
        "You are still subscribed to {}.",
    ),
}


def _asked(workspace: Workspace, what: Meant) -> tuple[str, str, str]:
    """What a page asks, explains, and keeps for its button: the wording that it shows."""
    question, text, *_ = KINDS[what.kind]
    if what.kind == "r" and (purpose := consent_table.purpose(workspace.store.read(), what.link)) is not None:
        question = f"Would you like to receive {purpose.name}?"
        return question, " ".join(t for t in (purpose.text or "", text) if t), signup_api.shown_field([purpose])
    if what.kind == "s":
        return (
            question,
            text,
            "".join(f"<p><b>{escape(n)}</b><br>{escape(t)}</p>" for n, t in signup.agrees_to(workspace, what.number)),
        )
    return question, text, ""


def _does(workspace: Workspace, what: Meant, agent: str, ip: str) -> str:
    """What a button does; the word its page says afterwards."""
    acts: dict[str, Callable[[], str]] = {
        "k": lambda: domains.confirm(workspace, what.number),
        "s": lambda: signup.confirm(workspace, what.number),
        "a": lambda: address_change.change_address(workspace, what.number),
        "r": lambda: reconsent.agree(
            workspace, DeliveryId(what.number), PurposeId(what.link), agent, ip, shown=signup_api.shown_in(request.form)
        ),
        "w": lambda: reconsent.keep_subscribed(workspace, DeliveryId(what.number), agent, ip),
    }
    return acts[what.kind]()


class Pages:
    """The public pages that links in mail lead to."""

    def __init__(self, workspace: Workspace, tokens: Tokens) -> None:
        self.workspace, self.tokens = workspace, tokens

    def meant(self, token: str, kind: str) -> Meant:
        """What a token of a kind means; 404 where it is not ours."""
        found = self.tokens.read(token, kind)
        if found is None:
            abort(404)
        if found.number == TEST and kind not in "oc":
            abort(test_page())
        return found

    def visitor(self) -> tuple[str, str]:
        """The agent and network address that ask."""
        return request.headers.get("User-Agent", "")[:LONGEST_AGENT], request.remote_addr or ""

    def clicked(self, token: str) -> BaseResponse:
        """Record a click and send the reader on to where the link leads."""
        found = self.meant(token, "c")
        url = tracking.clicked(
            self.workspace, DeliveryId(found.number), found.link, *self.visitor(), self.tokens.make("b", found.number)
        )
        return redirect(url) if url else abort(404)

    def booked(self, token: str) -> BaseResponse:
        """A booking told back by the place a tracked link led to: ``value`` and a ``reference`` of its own, as a form, in
        the query, or by a image of one pixel."""
        found = self.meant(token, "b")
        try:
            value = float(request.values.get("value", "0") or 0)
            tracking.booked(self.workspace, DeliveryId(found.number), value, request.values.get("reference", ""))
        except (ValueError, Refused) as e:
            return Response(
                str(e) if isinstance(e, Refused) else "The value is not a number.", 400, mimetype="text/plain"
            )
        except Missing:
            abort(404)
        return Response(PICTURE, mimetype="image/gif", headers={"Cache-Control": "no-store"})

    def unsubscribe(self, token: str) -> BaseResponse:
        """The page to unsubscribe; the POST does it at once (RFC 8058)."""
        if request.method == "POST" and (proof := self.tokens.read(token, "q")) is not None:
            round_trip_test.pressed(self.workspace, proof.number)
            return message("Test successful", "This was a test of bounce and unsubscribe handling.")
        found = self.meant(token, "u")
        d = deliveries.delivery(self.workspace.store.read(), found.number)
        if d is None:
            abort(404)
        if request.method == "POST":
            tracking.unsubscribed(self.workspace, DeliveryId(found.number))
            return message(
                "You have been unsubscribed", "You will no longer receive these emails, effective immediately."
            )
        purpose = consent_table.purpose(self.workspace.store.read(), d.purpose or 0)
        return message(
            f"Unsubscribe from {purpose.name if purpose else 'these emails'}?",
            "Click the button and you will no longer receive these emails.",
            "Unsubscribe",
            f'<p><a href="/p/{self.tokens.make("p", d.subscriber)}">Or change your email preferences</a></p>',
        )

    def confirm(self, token: str) -> BaseResponse:
        """Only the POST confirms, so that machines that follow links confirm nobody."""
        what = next((f for kind in KINDS if (f := self.tokens.read(token, kind)) is not None), None)
        if what is None:
            abort(404)
        if what.number == TEST:
            return test_page()
        *_, button, done = KINDS[what.kind]
        question, text, within = _asked(self.workspace, what)
        if request.method != "POST":
            return message(question, text, button, within=within)
        try:
            return message("Confirmed", done.format(_does(self.workspace, what, *self.visitor())))
        except Missing:
            abort(404)
        except Refused as e:
            return message("Nothing changed", str(e))

    def in_browser(self, token: str) -> BaseResponse:
        """A message as its reader got it."""
        try:
            said = renderer.in_browser(self.workspace, self.tokens, DeliveryId(self.meant(token, "m").number))
        except (Missing, FieldMistake):
            abort(404)
        return Response(said.html or f"<pre>{escape(said.plain)}</pre>", mimetype="text/html")

    def image(self, name: str) -> BaseResponse:
        """A image of a message; its name is made from what is in it, so it never changes."""
        try:
            path, kind = images.file_of(self.workspace, name)
        except Missing:
            abort(404)
        headers = {"Cache-Control": "public, max-age=31536000, immutable"}
        return Response(path.read_bytes(), mimetype=kind, headers=headers)

    def trap(self) -> BaseResponse:
        """The hidden link that only machines follow: nothing to see."""
        return Response("", status=204)

    def not_found(self, _: Exception) -> Response:
        """Nothing that a stranger could learn from."""
        return Response("Not found\n", 404, mimetype="text/plain")


def make(workspace: Workspace, tokens: Tokens) -> Blueprint:
    """The public pages that links in mail lead to."""
    bp, pages = Blueprint("public", __name__), Pages(workspace, tokens)
    workspace.part(Arrivals)  # takes in at once what a process that died has left
    bp.add_url_rule("/c/<token>", view_func=pages.clicked)
    bp.add_url_rule("/b/<token>", view_func=pages.booked, methods=["GET", "POST"])
    bp.add_url_rule("/u/<token>", view_func=pages.unsubscribe, methods=["GET", "POST"])
    bp.add_url_rule("/k/<token>", view_func=pages.confirm, methods=["GET", "POST"])
    bp.add_url_rule("/m/<token>", view_func=pages.in_browser)
    bp.add_url_rule("/f/<name>", view_func=pages.image)
    bp.add_url_rule("/trap", view_func=pages.trap)
    bp.register_error_handler(404, pages.not_found)
    return bp
