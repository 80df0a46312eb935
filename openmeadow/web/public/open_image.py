"""The image that tells of an open, answered before anything else of the application is asked: hundreds come a second
after a large batch. A token that is not ours goes on to the public pages, which say so."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from wsgiref.types import StartResponse, WSGIApplication, WSGIEnvironment

from openmeadow.core.ids import DeliveryId
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import tracking
from openmeadow.services.workspace import Workspace
from openmeadow.web.public.tracking import LONGEST_AGENT, PICTURE

PATH = "/o/"
STRICT = ("Strict-Transport-Security", "max-age=31536000")


class OpenImages:
    """A WSGI application before another one. ``headers`` are those of every answer."""

    def __init__(self, app: WSGIApplication, workspace: Workspace, tokens: Tokens, headers: Mapping[str, str]) -> None:
        self._app, self._workspace, self._tokens = app, workspace, tokens
        self._headers = [
            ("Content-Type", "image/gif"),
            ("Content-Length", str(len(PICTURE))),
            ("Cache-Control", "no-store"),
            *headers.items(),
        ]
        self._secure = [STRICT]

    def __call__(self, environ: WSGIEnvironment, start_response: StartResponse) -> Any:
        path = environ.get("PATH_INFO", "")
        if not path.startswith(PATH) or environ["REQUEST_METHOD"] not in ("GET", "HEAD"):
            return self._app(environ, start_response)
        found = self._tokens.read(path[len(PATH) :], "o")
        if found is None:
            return self._app(environ, start_response)
        agent = environ.get("HTTP_USER_AGENT", "")[:LONGEST_AGENT]
        tracking.opened(self._workspace, DeliveryId(found.number), agent, environ.get("REMOTE_ADDR", ""))
        start_response(
            "200 OK", [*self._headers, *self._secure] if environ["wsgi.url_scheme"] == "https" else self._headers
        )
        return [PICTURE] if environ["REQUEST_METHOD"] == "GET" else []
