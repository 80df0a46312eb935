"""Sessions in the browser: their cookie."""

from __future__ import annotations

from flask import make_response, request
from flask.typing import ResponseReturnValue

from openmeadow.core.moments import DAY
from openmeadow.services import accounts
from openmeadow.services.workspace import Workspace
from openmeadow.web.router import COOKIE

LONGEST_MOVE = 60 * DAY


def begin_session(
    workspace: Workspace, user: int, answer: ResponseReturnValue, *, proved: bool = True
) -> ResponseReturnValue:
    """The answer with the cookie of a new session; the one that the browser had ends."""
    if (old := request.cookies.get(COOKIE)) and (session := accounts.session_of(workspace, old)) is not None:
        accounts.end_session(workspace, session)
    begun = accounts.begin_session(
        workspace, user, request.headers.get("User-Agent", ""), request.remote_addr or "", proved=proved
    )
    response = make_response(answer)
    secure = request.is_secure or str(workspace.setting("public_url")).startswith("https")
    response.set_cookie(COOKIE, begun.secret, accounts.LONGEST, httponly=True, samesite="Lax", secure=secure)
    return response
