"""Routes that describe themselves: one decorator gives validation, rights, and the OpenAPI description."""

from __future__ import annotations

import functools
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import structlog
from flask import Blueprint, Response, g, jsonify, request, session
from pydantic import BaseModel, ValidationError

from openmeadow.core.errors import MeadowError, Missing, Refused, RuleMistake
from openmeadow.desk import accounts
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace
from openmeadow.web import models

log = structlog.get_logger()
READ, WRITE, ANALYSE = ("analyst", "writer", "observer"), ("analyst", "writer"), ("analyst",)
CSRF_HEADER = "X-Meadow-CSRF"


@dataclass
class Described:
    """All routes of the API."""

    desk: Desk
    blueprint: Blueprint = field(default_factory=lambda: Blueprint("api", __name__, url_prefix="/api"))
    routes: list[dict[str, Any]] = field(default_factory=list)

    def route(
        self,
        method: str,
        path: str,
        answer: type[BaseModel],
        *,
        body: type[BaseModel] | None = None,
        rights: tuple[str, ...] | None = READ,
    ) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
        """``rights`` are the roles that may; None lets anybody in. The function returns a model or a Response."""

        def decorate(f: Callable[..., Any]) -> Callable[..., Any]:
            @functools.wraps(f)
            def handler(**arguments: Any) -> Any:
                if rights is not None and (refusal := self._refusal(rights)) is not None:
                    return refusal
                try:
                    if body is not None:
                        arguments["body"] = body.model_validate(request.get_json(silent=True) or {})
                    result = f(**arguments)
                except ValidationError as e:
                    first = e.errors()[0]
                    where = ".".join(map(str, first["loc"])) or "the request"
                    return problem(f"{where}: {first['msg']}.", 422)
                except RuleMistake as e:
                    return _answer(models.Problem(error=str(e), place=e.place, fits=list(e.fits)), 422)
                except Missing as e:
                    return problem(str(e), 404)
                except (Refused, MeadowError) as e:
                    return problem(str(e), 409)
                except Exception:
                    reference = secrets.token_hex(4)
                    log.exception("request failed", reference=reference, path=request.path)
                    return problem(f"Something went wrong inside. The log names it {reference}.", 500)
                return _answer(result) if isinstance(result, BaseModel) else result

            self.blueprint.add_url_rule(path, f"{method} {path}".replace(".", " "), handler, methods=[method])
            self.routes.append(
                {"method": method.lower(), "path": path, "answer": answer, "body": body, "doc": (f.__doc__ or "").strip()}
            )
            return f

        return decorate

    def _refusal(self, rights: tuple[str, ...]) -> Any:
        token = request.headers.get("Authorization", "").removeprefix("Bearer ")
        user = accounts.by_token(self.desk, token) if token else session.get("user")
        row = workspace.user(self.desk.store.read(), user) if user else None
        if row is None:
            return problem("Sign in first.", 401)
        if (
            not token
            and request.method != "GET"
            and not secrets.compare_digest(request.headers.get(CSRF_HEADER, ""), session.get("csrf", "-"))
        ):
            return problem("This page is out of date; load it again.", 403)
        if row["role"] not in rights:
            return problem(f"As {row['role']} you may look at this, but not do it.", 403)
        g.user = row
        return None

    def openapi(self) -> dict[str, Any]:
        """The OpenAPI 3.1 description of all routes."""
        from pydantic.json_schema import models_json_schema

        used = {r[k] for r in self.routes for k in ("answer", "body") if r[k] is not None} | {models.Problem}
        ordered = sorted(used, key=lambda m: m.__name__)
        _, schema = models_json_schema(
            [(m, "serialization") for m in ordered], ref_template="#/components/schemas/{model}"
        )
        paths: dict[str, Any] = {}
        for r in self.routes:
            path = r["path"].replace("<int:", "{").replace("<", "{").replace(">", "}")
            operation: dict[str, Any] = {
                "summary": r["doc"].split("\n")[0],
                "responses": {
                    "200": {
                        "description": "done",
                        "content": {
                            "application/json": {"schema": {"$ref": f"#/components/schemas/{r['answer'].__name__}"}}
                        },
                    },
                    "default": {
                        "description": "a sentence that says what happened",
                        "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
                    },
                },
            }
            if r["body"]:
                operation["requestBody"] = {
                    "required": True,
                    "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{r['body'].__name__}"}}},
                }
            parameters = [
                {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
                for name in path.split("{")[1:]
                for name in [name.split("}")[0]]
            ]
            if parameters:
                operation["parameters"] = parameters
            paths.setdefault("/api" + path, {})[r["method"]] = operation
        return {
            "openapi": "3.1.0",
            "info": {"title": "Open Meadow", "version": "1"},
            "paths": paths,
            "components": {"schemas": schema["$defs"]},
        }


def who() -> str:
    return str(g.user["name"])


def _answer(model: BaseModel, status: int = 200) -> Response:
    return Response(model.model_dump_json(), status, mimetype="application/json")


def problem(sentence: str, status: int) -> Response:
    response = jsonify({"error": sentence, "place": None, "fits": []})
    response.status_code = status
    return response
