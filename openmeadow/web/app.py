"""The Flask application: API, public pages, and the built front end, with security headers on everything."""

from __future__ import annotations

import contextlib
import re
import secrets
from pathlib import Path
from typing import Any

from flask import Flask, Response, jsonify, redirect, request, send_from_directory, session
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from werkzeug.wrappers import Response as WerkzeugResponse

from openmeadow.desk import accounts, watch
from openmeadow.desk.desk import Desk
from openmeadow.web import api
from openmeadow.web.described import Described
from openmeadow.web.public import forms, pages
from openmeadow.wire.spare_file import SpareFile
from openmeadow.wire.tokens import Tokens

DIST = Path(__file__).parent / "dist"
LARGEST_UPLOAD = 2 * 1024**3
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; frame-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'self'"
)
MESSAGE_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; sandbox; frame-ancestors 'self'"

PUBLIC = re.compile(r"[a-z]/")  # addresses in mail have one letter and a token


def make_app(desk: Desk) -> Flask:
    """The application over an open workspace."""
    app = Flask(__name__, static_folder=None)
    tokens = Tokens(desk.folder)
    with contextlib.suppress(OSError):
        SpareFile(desk.folder).reserve()
    app.secret_key = tokens.secret
    app.config.update(
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        MAX_CONTENT_LENGTH=LARGEST_UPLOAD,
        SESSION_COOKIE_NAME="meadow",
        SESSION_COOKIE_SECURE=str(desk.setting("public_url")).startswith("https"),
    )
    limiter = Limiter(get_remote_address, app=app, storage_uri="memory://", headers_enabled=False)
    described = Described(desk)
    api.register(described, desk)
    app.register_blueprint(described.blueprint)
    door = "api.POST /sign-in"
    app.view_functions[door] = limiter.limit("20 per minute")(app.view_functions[door])
    app.register_blueprint(pages.make(desk, tokens))
    app.register_blueprint(forms.make(desk, tokens))
    app.view_functions["forms.join"] = limiter.limit("12 per minute", methods=["POST"])(app.view_functions["forms.join"])
    description = described.openapi()

    @app.get("/api/openapi.json")
    def openapi() -> Response:
        return jsonify(description)

    @app.get("/api/ready")
    def ready() -> Response:
        desk.view()
        return jsonify({"ready": True})

    @app.get("/healthz")
    def healthz() -> Response:
        return jsonify({"alive": True})

    @app.get("/readyz")
    def readyz() -> tuple[Response, int]:
        found = watch.readiness(desk)
        parts = {"database": found.database, "worker": found.worker, "relay": found.relay}
        return jsonify(
            {"ready": found.is_ready, **parts, "problems": list(found.problems)}
        ), 200 if found.is_ready else 503

    @app.get("/enter/<token>")
    @limiter.limit("20 per minute")  # type: ignore[untyped-decorator]
    def enter(token: str) -> Response | WerkzeugResponse:
        user = accounts.enter_once(desk, token)
        if user is None:
            return redirect("/sign-in")
        begin_session(user)
        return redirect("/")

    @app.get("/", defaults={"path": ""})
    @app.get("/<path:path>")
    def front(path: str) -> Any:
        if path.startswith("api/"):
            return jsonify({"error": "There is no such address.", "place": None, "fits": []}), 404
        if PUBLIC.match(path):  # an address from mail whose token is cut off or has grown a part
            return Response("Not found\n", 404, mimetype="text/plain")
        if path and (DIST / path).is_file():
            response = send_from_directory(DIST, path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        if not (DIST / "index.html").exists():
            return "The front end is not built; run make setup.", 503
        return Response((DIST / "index.html").read_bytes(), mimetype="text/html", headers={"Cache-Control": "no-cache"})

    @app.after_request
    def headers(response: Response) -> Response:
        response.headers.setdefault(
            "Content-Security-Policy", MESSAGE_POLICY if request.path.startswith("/m/") else POLICY
        )
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
        return response

    return app


def begin_session(user: int) -> None:
    session.clear()
    session["user"] = user
    session["csrf"] = secrets.token_urlsafe(18)
