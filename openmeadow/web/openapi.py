"""The API's description (OpenAPI 3.1), made from its routes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from openmeadow.web import schemas
from openmeadow.web.limits import LARGEST_ID

ID = {"type": "integer", "minimum": 0, "maximum": LARGEST_ID}
_PART = re.compile(r"<(?:(\w+):)?(\w+)>")
MEANINGS = {
    "401": "not signed in",
    "403": "signed in, but not allowed",
    "404": "something that was named does not exist",
    "405": "method not allowed",
    "409": "not allowed in the current state",
    "413": "too large",
    "422": "the request cannot be read",
    "429": "too many requests",
    "500": "internal error; the message names the log line",
    "503": "the database is busy",
}


@dataclass(frozen=True)
class Route:
    """One operation as it was declared."""

    method: str
    path: str
    answer: type[BaseModel] | str
    body: type[BaseModel] | None
    query: type[BaseModel] | None
    upload: type[BaseModel] | str | None
    doc: str
    rights: tuple[str, ...] | None
    proof: bool
    own: bool
    scope: str

    @property
    def template(self) -> str:
        """The path as the description writes it."""
        return "/api" + _PART.sub(r"{\2}", self.path)


def _bounded(schema: Any) -> Any:
    """Whole numbers are of 64 bits, where nothing narrower is said."""
    if isinstance(schema, list):
        return [_bounded(s) for s in schema]
    if not isinstance(schema, dict):
        return schema
    out = {k: _bounded(v) for k, v in schema.items()}
    if out.get("type") == "integer":
        if not {"minimum", "exclusiveMinimum"} & out.keys():
            out["minimum"] = -LARGEST_ID
        if not {"maximum", "exclusiveMaximum"} & out.keys():
            out["maximum"] = LARGEST_ID
    return out


def _parameters(route: Route) -> list[dict[str, Any]]:
    out = [
        {
            "name": name,
            "in": "path",
            "required": True,
            "schema": ID if kind == "int" else {"type": "string", "minLength": 1},
        }
        for kind, name in _PART.findall(route.path)
    ]
    if route.query is not None:
        schema = _bounded(route.query.model_json_schema())
        required = schema.get("required", [])
        for name, said in schema["properties"].items():
            about = {"description": said["description"]} if "description" in said else {}
            form = {k: v for k, v in said.items() if k not in ("title", "description")}
            out.append({"name": name, "in": "query", "required": name in required, "schema": form, **about})
    return out


def _request(route: Route, names: dict[Any, str]) -> dict[str, Any] | None:
    if route.body is not None:
        content = {"application/json": {"schema": {"$ref": names[route.body, "validation"]}}}
        return {"required": True, "content": content}
    if isinstance(route.upload, str):
        kinds = route.upload.split("|")
        return {"required": True, "content": {k: {"schema": {"type": "string", "format": "binary"}} for k in kinds}}
    if route.upload is not None:
        schema = _bounded(route.upload.model_json_schema())
        schema["properties"]["file"] = {"type": "string", "format": "binary"}
        schema["required"] = [*schema.get("required", []), "file"]
        return {"required": True, "content": {"multipart/form-data": {"schema": schema}}}
    return None


def _statuses(route: Route) -> list[str]:
    """The statuses beside 200 that an operation may answer with."""
    out = {"409", "500", "503"}
    out |= {"401", "429"} if route.rights is None else {"401", "403", "404"}
    if route.body is not None or route.query is not None or route.upload is not None or route.method != "get":
        out |= {"404", "413", "422"}
    if route.proof or route.own:
        out.add("429")
    return sorted(out)


def describe(routes: list[Route]) -> dict[str, Any]:
    """The whole document. Requests and answers have schemas of their own where they differ."""
    answers = {r.answer for r in routes if not isinstance(r.answer, str)} | {schemas.Problem}
    bodies = {r.body for r in routes if r.body is not None}
    ordered = [(m, "serialization") for m in sorted(answers, key=lambda m: m.__name__)]
    ordered += [(m, "validation") for m in sorted(bodies, key=lambda m: m.__name__)]
    refs, schema = models_json_schema(ordered, ref_template="#/components/schemas/{model}")  # type: ignore[arg-type]
    names = {key: said["$ref"] for key, said in refs.items()}
    wrong = {"application/json": {"schema": {"$ref": names[schemas.Problem, "serialization"]}}}
    paths: dict[str, Any] = {}
    for r in routes:
        if isinstance(r.answer, str):  # a file of one of some media types
            content = {m: {"schema": {} if m.endswith("json") else {"type": "string"}} for m in r.answer.split("|")}
        else:
            content = {"application/json": {"schema": {"$ref": names[r.answer, "serialization"]}}}
        operation: dict[str, Any] = {
            "operationId": f"{r.method} {r.path}",
            "summary": r.doc.split("\n")[0],
            "responses": {
                "200": {"description": "done", "content": content},
                **{s: {"description": MEANINGS[s], "content": wrong} for s in _statuses(r)},
            },
            "x-roles": sorted(r.rights or ("anyone",)),
        }
        if (request := _request(r, names)) is not None:
            operation["requestBody"] = request
        if parameters := _parameters(r):
            operation["parameters"] = parameters
        if r.rights is not None:
            operation["security"] = [{"session": []}] if r.own or r.proof else [{"session": []}, {"token": []}]
        paths.setdefault(r.template, {})[r.method] = operation
    return {
        "openapi": "3.1.0",
        "info": {"title": "Open Meadow", "version": "1"},
        "paths": paths,
        "components": {
            "schemas": _bounded(schema["$defs"]),
            "securitySchemes": {
                "session": {
                    "type": "apiKey",
                    "in": "cookie",
                    "name": "meadow",
                    "description": "Requests that change something also need the header X-Meadow-CSRF, as given by GET /api/me.",
                },
                "token": {"type": "http", "scheme": "bearer"},
            },
        },
    }
