"""What mail leads back to: open picture, links, unsubscribe, confirmation. Tampered tokens get a plain 404."""

from __future__ import annotations

import base64
import html
from typing import Any

from flask import Blueprint, Response, abort, redirect, request

from openmeadow.core.errors import Missing
from openmeadow.desk import answers, senders
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns
from openmeadow.wire.tokens import Meant, Tokens

PICTURE = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")
_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{title}</title><style>body{{font:17px/1.55 "Source Sans 3",sans-serif;background:#FAF8F2;color:#1E2B33;
margin:12vh auto;max-width:34em;padding:0 24px}}h1{{font-size:26px;line-height:1.2}}button{{font:inherit;font-weight:600;
background:#3A55A4;color:#fff;border:0;border-radius:4px;padding:10px 18px;cursor:pointer}}</style>
<main><h1>{title}</h1><p>{text}</p>{rest}</main></html>"""


def page(title: str, text: str, button: str = "") -> Response:
    rest = f'<form method="post"><button>{html.escape(button)}</button></form>' if button else ""
    return Response(_PAGE.format(title=html.escape(title), text=html.escape(text), rest=rest), mimetype="text/html")


def make(desk: Desk, tokens: Tokens) -> Blueprint:
    """The public pages of a workspace."""
    bp = Blueprint("public", __name__)

    def meant(token: str, kind: str) -> Meant:
        found = tokens.read(token, kind)
        if found is None:
            abort(404)
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
        url = answers.clicked(desk, found.number, found.link, *visitor())
        return redirect(url) if url else abort(404)

    @bp.route("/u/<token>", methods=["GET", "POST"])
    def unsubscribe(token: str) -> Any:
        found = meant(token, "u")
        d = campaigns.delivery(desk.store.read(), found.number)
        if d is None:
            abort(404)
        if request.method == "POST":
            answers.unsubscribed(desk, found.number)
            return page("You are unsubscribed", "No more of this mail will come to you. It took effect at once.")
        purpose = desk.store.read().execute("SELECT name FROM purposes WHERE id = ?", (d["purpose"],)).fetchone()
        return page(
            f"Stop {purpose['name'] if purpose else 'this mail'}?",
            "Press the button and no more of it will come to you.",
            "Unsubscribe",
        )

    @bp.route("/k/<token>", methods=["GET", "POST"])
    def confirm(token: str) -> Any:
        found = meant(token, "k")
        try:
            if request.method == "POST":
                return page("Confirmed", f"{senders.confirm(desk, found.number)} may now be used as a from-address.")
        except Missing:
            abort(404)
        return page(
            "Is this address yours?", "Press the button to let this workspace send mail from it.", "Yes, confirm it"
        )

    @bp.get("/trap")
    def trap() -> Any:
        return Response("", status=204)

    @bp.errorhandler(404)
    def not_found(_: Any) -> Any:
        return Response("Not found\n", 404, mimetype="text/plain")

    return bp
