"""The Flask application: API, public pages, and the built front end, with limits and security headers on everything."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

from flask import Flask, Response, jsonify, redirect, request, send_from_directory
from flask.typing import ResponseReturnValue
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from werkzeug.exceptions import HTTPException, MethodNotAllowed, NotFound, TooManyRequests
from werkzeug.routing import IntegerConverter

from openmeadow.net.signed_tokens import Tokens
from openmeadow.net.spare_file import SpareFile
from openmeadow.services import accounts
from openmeadow.services.today import process_watch
from openmeadow.services.workspace import Workspace
from openmeadow.web import api, watching
from openmeadow.web.limits import LARGEST_ID, LARGEST_PUBLIC
from openmeadow.web.public import signup, tracking
from openmeadow.web.public.layout import message
from openmeadow.web.public.open_image import STRICT, OpenImages
from openmeadow.web.router import Described, told
from openmeadow.web.session import begin_session

DIST = Path(__file__).parent / "dist"
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; frame-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'self'"
)
MESSAGE_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; sandbox; frame-ancestors 'self'"
SAFE = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "TRACE")
PUBLIC = re.compile(r"[a-z]/")  # addresses in mail have one letter and a token
PACKED = {"br": ".br", "gzip": ".gz"}  # made by the build, the better first
TYPES = {".js": "text/javascript", ".css": "text/css", ".svg": "image/svg+xml", ".html": "text/html"}
# what a stranger may try so often from one network address
TRIES = {
    "api.POST /sign-in": "20 per minute",
    "api.POST /set-password": "20 per minute",
    "api.POST /me/prove": "20 per minute",
    "forms.join": "12 per minute",
    "forms.preferences": "30 per minute",
    "public.booked": "60 per minute",
}


class Id(IntegerConverter):
    """A number that the database can keep; a larger one stands for the largest, which nothing has."""

    def to_python(self, value: str) -> int:
        """The number of an address; a very large one stands for none."""
        return LARGEST_ID if len(value) > 18 else int(value)


def _asset(path: str) -> Response:
    """A file of the front end, as the browser wants it packed."""
    kind = TYPES.get(Path(path).suffix)
    if kind is not None:
        for how, suffix in PACKED.items():
            if request.accept_encodings.quality(how) > 0 and (DIST / (path + suffix)).is_file():
                response = send_from_directory(DIST, path + suffix, mimetype=kind, etag=True)
                response.headers["Content-Encoding"] = how
                response.headers["Vary"] = "Accept-Encoding"
                return response
    return send_from_directory(DIST, path)


def _processes(app: Flask, workspace: Workspace) -> None:
    """Whether the process lives, and whether all that it needs is ready."""

    @app.get("/healthz")
    def healthz() -> Response:
        return jsonify({"alive": True})

    @app.get("/readyz")
    def readyz() -> tuple[Response, int]:
        found = process_watch.readiness(workspace)
        parts = {"database": found.database, "worker": found.worker, "relay": found.relay}
        return jsonify(
            {"ready": found.is_ready, **parts, "problems": list(found.problems)}
        ), 200 if found.is_ready else 503


def _front(app: Flask, workspace: Workspace) -> None:
    """The files of the front end, and the headers of every answer."""

    @app.get("/", defaults={"path": ""})
    @app.get("/<path:path>")
    def front(path: str) -> Response:
        if PUBLIC.match(path):  # an address from mail whose token is cut off or has grown a part
            return Response("Not found\n", 404, mimetype="text/plain")
        if path and (DIST / path).is_file():
            response = _asset(path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        if not (DIST / "index.html").exists():
            return Response("The front end is not built; run make setup.", 503, mimetype="text/plain")
        return Response((DIST / "index.html").read_bytes(), mimetype="text/html", headers={"Cache-Control": "no-cache"})

    @app.after_request
    def headers(response: Response) -> Response:
        response.headers.setdefault(
            "Content-Security-Policy", MESSAGE_POLICY if request.path.startswith("/m/") else POLICY
        )
        response.headers.extend(SAFE)
        response.headers.setdefault("Cache-Control", "no-store")  # whatever is not said to be kept may be personal
        if request.is_secure or str(workspace.setting("public_url")).startswith("https"):
            response.headers.set(*STRICT)
        return response


def make_app(workspace: Workspace) -> Flask:
    """The application over an open workspace."""
    app = Flask(__name__, static_folder=None)
    app.url_map.converters["int"] = Id
    tokens = Tokens(workspace.folder)
    with contextlib.suppress(OSError):
        SpareFile(workspace.folder).reserve()
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_PUBLIC
    limiter = Limiter(get_remote_address, app=app, storage_uri="memory://", headers_enabled=False)
    described = Described(workspace)
    api.register(described, workspace)
    app.register_blueprint(described.blueprint)
    app.register_blueprint(tracking.make(workspace, tokens))
    app.register_blueprint(signup.make(workspace, tokens))
    for name, often in TRIES.items():
        app.view_functions[name] = limiter.limit(often, methods=["POST"])(app.view_functions[name])
    app.extensions["described"] = described

    @app.errorhandler(HTTPException)
    def refused(e: HTTPException) -> ResponseReturnValue:
        if request.path.startswith("/api/"):
            return told(e)
        if isinstance(e, TooManyRequests):
            response = message("Too many requests", "Please wait a minute, then try again.")
            response.status_code = 429
            return response
        return e

    watching.add(app, workspace)
    description = described.openapi()
    app.add_url_rule("/api/openapi.json", "openapi", lambda: jsonify(description))

    @app.get("/api/ready")
    def ready() -> Response:
        workspace.view()
        return jsonify({"ready": True})

    @app.route("/api/<path:path>", methods=METHODS)
    @app.route("/api/", defaults={"path": ""}, methods=METHODS)
    def no_operation(path: str) -> Response:
        """Whatever no operation of the API answers: the method is not done there, or there is no such address."""
        adapter = app.url_map.bind("")
        done = []
        for method in METHODS:
            with contextlib.suppress(HTTPException):
                endpoint, _ = adapter.match(f"/api/{path}", method)
                done += [method] if endpoint != "no_operation" else []
        return told(MethodNotAllowed(valid_methods=done) if done else NotFound())

    @app.get("/enter/<token>")
    @limiter.limit("20 per minute")  # type: ignore[untyped-decorator]
    def enter(token: str) -> ResponseReturnValue:
        user = accounts.enter_once(workspace, token)
        return redirect("/sign-in") if user is None else begin_session(workspace, user, redirect("/"))

    _processes(app, workspace)
    _front(app, workspace)
    app.wsgi_app = OpenImages(app.wsgi_app, workspace, tokens, SAFE | {"Content-Security-Policy": POLICY})  # type: ignore[method-assign]
    return app
