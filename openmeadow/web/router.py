"""Routes that describe themselves: one decorator gives validation, rights, limits, and the OpenAPI description."""

from __future__ import annotations

import functools
import json
import secrets
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import pydantic_core
import structlog
from flask import Blueprint, Response, g, jsonify, request
from pydantic import BaseModel, ValidationError
from pydantic_core import PydanticSerializationError
from werkzeug.datastructures import FileStorage
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge

from openmeadow.core import errors
from openmeadow.services import accounts
from openmeadow.services.kept_columns import may_lag
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store import users as account_table
from openmeadow.web import openapi, schemas
from openmeadow.web.limits import LARGEST_ID, LARGEST_JSON, LARGEST_PUBLIC, LARGEST_UPLOAD
from openmeadow.web.openapi import Route

log = structlog.get_logger()
READ, WRITE, ANALYSE = ("analyst", "writer", "observer"), ("analyst", "writer"), ("analyst",)
CSRF_HEADER = "X-Meadow-CSRF"
COOKIE = "meadow"
PROVE = "password"  # what a refusal says in ``fits`` where the password has to be given again

# an error of ours -> its status; the first that fits
STATUS: tuple[tuple[type[errors.MeadowError], int], ...] = (
    (errors.RuleMistake, 422),
    (errors.NotSignedIn, 401),
    (errors.TooMany, 429),
    (errors.TooLarge, 413),
    (errors.Missing, 404),
    (errors.Busy, 503),
    (errors.MeadowError, 409),
)


def _reading(f: Callable[..., Any]) -> Callable[..., Any]:
    """A request that only reads: settings are read once, and views may lag while a lot that is new is being read."""

    def act(**arguments: object) -> Any:
        with may_lag(), settings.read_once():
            return f(**arguments)

    return act


@dataclass
class Described:
    """All routes of the API."""

    workspace: Workspace
    blueprint: Blueprint = field(default_factory=lambda: Blueprint("api", __name__, url_prefix="/api"))
    routes: list[Route] = field(default_factory=list)

    def route(
        self,
        method: str,
        path: str,
        answer: type[BaseModel] | str,
        *,
        body: type[BaseModel] | None = None,
        query: type[BaseModel] | None = None,
        upload: type[BaseModel] | str | None = None,
        rights: tuple[str, ...] | None = READ,
        proof: bool = False,
        own: bool = False,
        scope: str = "all",
    ) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
        """``answer`` is a model, or the media type of a file. ``rights`` are the roles that may; None lets anybody in.
        ``query`` is checked and passed on like ``body``; ``upload`` is a model of form fields beside a file, or the
        media type of a body that is a file. ``own`` needs a session (no token), ``proof`` a password given lately.
        ``scope`` is the least that a token needs to do it (what only reads needs "read")."""

        def decorate(f: Callable[..., Any]) -> Callable[..., Any]:
            needs = "read" if method == "GET" else scope
            largest = LARGEST_UPLOAD if upload else LARGEST_PUBLIC if rights is None else LARGEST_JSON

            @functools.wraps(f)
            def handler(**arguments: object) -> Any:
                try:
                    if rights is not None and (refusal := self._refusal(rights, needs, proof, own or proof)) is not None:
                        return refusal
                    request.max_content_length = largest
                    arguments |= {"row_id": arguments.pop("id")} if "id" in arguments else {}
                    if body is not None:
                        arguments["body"] = _read_body(body)
                    if query is not None:
                        arguments["query"] = query.model_validate(request.args.to_dict())
                    if upload is not None and not isinstance(upload, str):
                        arguments["form"] = upload.model_validate(request.form.to_dict())
                    result = (_reading(f) if needs == "read" else f)(**arguments)
                except ValidationError as e:
                    return problem(_first(e), 422)
                except errors.MeadowError as e:
                    return _told(e)
                except HTTPException:
                    raise
                except (sqlite3.IntegrityError, OverflowError):
                    log.exception("does not fit the database", path=request.path)
                    return problem("Something this refers to does not exist, or a value is not valid.", 409)
                except Exception as e:
                    if isinstance(e, sqlite3.OperationalError) and "locked" in str(e):
                        return problem("The database is busy; try again in a moment.", 503)
                    log.exception("request failed", path=request.path)
                    return problem(f"Internal error, reference {g.request_id}.", 500)
                return _answer(result) if isinstance(result, BaseModel) else result

            self.blueprint.add_url_rule(path, f"{method} {path}".replace(".", " "), handler, methods=[method])
            doc = (f.__doc__ or "").strip()
            self.routes.append(Route(method.lower(), path, answer, body, query, upload, doc, rights, proof, own, scope))
            return f

        return decorate

    def _refusal(self, rights: tuple[str, ...], needs: str, proof: bool, own: bool) -> Any:
        scheme, _, secret = request.headers.get("Authorization", "").partition(" ")
        token = accounts.by_token(self.workspace, secret.strip()) if scheme.lower() == "bearer" else None
        cookie = request.cookies.get(COOKIE, "")
        session = (
            accounts.session_of(self.workspace, cookie)
            if token is None and scheme.lower() != "bearer" and cookie
            else None
        )
        holder = token or session
        row = account_table.user(self.workspace.store.read(), holder.user) if holder else None
        if row is None:
            return problem("Sign in first.", 401)
        if session is not None and request.method not in ("GET", "HEAD"):
            given = request.headers.get(CSRF_HEADER, "").encode("utf-8", "replace")
            if not secrets.compare_digest(given, session.csrf.encode()):
                return problem("This page is out of date. Reload it.", 403)
        if token is not None and token.scope not in ("all", needs):
            return problem(f"This token is for “{token.scope}” only.", 403)
        if own and session is None:
            return problem("This needs a signed-in browser session, not a token.", 403)
        if row.role not in rights:
            return problem(f"Your role ({row.role}) does not allow this.", 403)
        g.user, g.session, g.token = row, session, token
        return _unproved(self.workspace, session) if proof else None

    def openapi(self) -> dict[str, Any]:
        """The OpenAPI 3.1 description of all routes."""
        return openapi.describe(self.routes)


class Routes:
    """The routes of one module: each a function of the workspace and of what the request says."""

    def __init__(self) -> None:
        self._made: list[tuple[tuple[Any, ...], dict[str, Any], Callable[..., Any]]] = []

    def route(self, *described: Any, **more: Any) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
        """As ``Described.route``, for a function whose first argument is the workspace."""

        def decorate(f: Callable[..., Any]) -> Callable[..., Any]:
            self._made.append((described, more, f))
            return f

        return decorate

    def register(self, api: Described, workspace: Workspace) -> None:
        """Add every route to an API, for one workspace."""
        for described, more, f in self._made:
            api.route(*described, **more)(functools.update_wrapper(functools.partial(f, workspace), f))


def _unproved(workspace: Workspace, session: Any) -> Response | None:
    if session is not None and accounts.is_proved(workspace, session):
        return None
    return _answer(schemas.Problem(error="Enter your password again for this.", fits=[PROVE]), 403)


def need_proof(workspace: Workspace) -> Response | None:
    """The refusal where the password was not given lately, for what weakens security only sometimes."""
    return _unproved(workspace, g.session)


def _read_body(model: type[BaseModel]) -> BaseModel:
    data = request.get_data(cache=False) or b"{}"
    try:
        read = pydantic_core.from_json(data, allow_inf_nan=False)
    except ValueError as e:
        raise errors.RuleMistake("The body of the request is not JSON.", 0) from e
    if not _fits(read):
        raise errors.RuleMistake("A number in the request is too large.", 0)
    return model.model_validate_json(data if read is not None else b"{}", strict=True)


def _fits(value: object) -> bool:
    """Whether every whole number can be kept (64 bits)."""
    waiting = [value]
    while waiting:
        v = waiting.pop()
        if isinstance(v, int) and not -LARGEST_ID <= v <= LARGEST_ID:
            return False
        if isinstance(v, dict):
            waiting.extend(v.values())
        elif isinstance(v, list):
            waiting.extend(v)
    return True


def _first(e: ValidationError) -> str:
    first = e.errors(include_url=False, include_context=False)[0]
    where = ".".join(map(str, first["loc"])) or "the request"
    return f"{where[:120]}: {first['msg'][:300]}."


def _told(e: errors.MeadowError) -> Response:
    status = next(s for kind, s in STATUS if isinstance(e, kind))
    if isinstance(e, errors.RuleMistake):
        return _answer(schemas.Problem(error=str(e), place=e.place, fits=list(e.fits)), status)
    answer = problem(str(e), status)
    if isinstance(e, errors.TooMany):
        answer.headers["Retry-After"] = str(e.seconds)
    return answer


def told(e: HTTPException) -> Response:
    """What HTTP itself refuses, in the words and the form of the API."""
    words = {
        400: "The request cannot be read.",
        404: "There is nothing at this address.",
        405: f"{request.method} is not supported at this address.",
        413: "This is too large.",
        415: "The content type is not supported here.",
        429: "Too many requests; try again in a minute.",
    }
    status = e.code or 500
    answer = problem(words.get(status, e.description or "The request was rejected."), status)
    if isinstance(e, RequestEntityTooLarge):
        answer.headers["Connection"] = "close"
    if status == 405 and getattr(e, "valid_methods", None):
        answer.headers["Allow"] = ", ".join(sorted(e.valid_methods))  # type: ignore[attr-defined]
    return answer


def file_given() -> FileStorage:
    """The multipart field ``file``."""
    file = request.files.get("file")
    if file is None or not file.filename:
        raise errors.Refused("Choose a file first.")
    return file


def who() -> str:
    """The name of the account that asks."""
    return str(g.user.name)


def _answer(model: BaseModel, status: int = 200) -> Response:
    try:
        text = model.model_dump_json()
    except PydanticSerializationError:  # letters of a file that could not be read: shown as such
        text = json.dumps(model.model_dump(), ensure_ascii=False).encode("utf-8", "replace").decode()
    return Response(text, status, mimetype="application/json")


def given(model: BaseModel, *, empty: tuple[str, ...] = ()) -> dict[str, Any]:
    """What a request says, by field; null means "not given", but for fields that may be empty."""
    values = model.model_dump(exclude_unset=True)
    return {k: v for k, v in values.items() if v is not None or k in empty}


def problem(sentence: str, status: int) -> Response:
    """A refusal as JSON, with its HTTP status."""
    response = jsonify({"error": sentence, "place": None, "fits": []})
    response.status_code = status
    return response
