"""What is given to a person who asks what is known about them (GDPR art. 15): the same document with times that can be
read, as JSON and as a page."""

from __future__ import annotations

from html import escape

from pydantic import JsonValue

from openmeadow.core.imports.dates import rfc3339

_TIMES = {"at", "as_of", "last_engaged", "since", "until", "paused_until", "now"}
_LEFT_OUT = {"why", "trace", "id", "permission"}  # shown in words, or of no meaning to the reader
TITLES = {
    "email": "Email address",
    "joined_at": "Joined",
    "source": "Source",
    "time_zone": "Time zone",
    "consent": "Your consents and withdrawals",
    "events": "What was sent to you, and what happened",
    "suppressed": "Why we do not email you",
    "returned": "Returned mail",
    "verdict": "Check of your address",
    "notes": "Notes",
    "sequences": "Email sequences",
    "signs": "Signs",
}
_STYLE = """body{font:15px/1.5 system-ui,sans-serif;color:#1E2B33;max-width:60em;margin:2em auto;padding:0 1em}
h1{font-size:1.5em}h2{font-size:1.1em;margin:1.6em 0 .3em}table{border-collapse:collapse;width:100%}
td,th{text-align:left;vertical-align:top;border-bottom:1px solid #CFC8B7;padding:.25em .8em .25em 0;
overflow-wrap:anywhere}"""


def _is_time(name: str, value: JsonValue) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and (name in _TIMES or name.endswith("_at"))


def with_times(value: JsonValue, name: str = "") -> JsonValue:
    """The document with each moment as RFC 3339, in UTC."""
    if isinstance(value, dict):
        return {k: with_times(v, k) for k, v in value.items()}
    if isinstance(value, list):
        return [with_times(v, name) for v in value]
    return rfc3339(value) if isinstance(value, int) and _is_time(name, value) else value


def page(document: dict[str, JsonValue], who: str, when: str) -> str:
    """The document as HTML that needs nothing else."""
    simple: dict[str, JsonValue] = {
        k: v for k, v in document.items() if k not in _LEFT_OUT and not isinstance(v, list | dict) and v not in ("", None)
    }
    rest = {k: v for k, v in document.items() if k not in _LEFT_OUT and isinstance(v, list | dict) and v}
    body = [_pairs(simple)]
    for name, value in rest.items():
        body.append(f"<h2>{escape(_title(name))}</h2>")
        body.append(_rows(value) if isinstance(value, list) else _pairs(value))
    title = f"What {who} knows about {document.get('email', '')}"
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title><style>{_STYLE}</style>'
        f"<h1>{escape(title)}</h1><p>As of {escape(when)}. Times are in UTC.</p>{''.join(body)}</html>"
    )


def _title(name: str) -> str:
    return TITLES.get(name, name.replace("_at", "").replace("_", " ").capitalize())


def _said(value: JsonValue) -> str:
    if isinstance(value, list):
        return ", ".join(_said(v) for v in value)
    if isinstance(value, dict):
        return ", ".join(f"{k}: {_said(v)}" for k, v in value.items() if v not in ("", None))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


def _pairs(values: dict[str, JsonValue]) -> str:
    rows = "".join(f"<tr><th>{escape(_title(k))}</th><td>{escape(_said(v))}</td></tr>" for k, v in values.items())
    return f"<table>{rows}</table>"


def _rows(values: list[JsonValue]) -> str:
    records = [v for v in values if isinstance(v, dict)]
    if len(records) < len(values):
        return f"<p>{escape(_said(values))}</p>"
    names = [k for k in records[0] if k not in _LEFT_OUT]
    head = "".join(f"<th>{escape(_title(k))}</th>" for k in names)
    rows = "".join("<tr>" + "".join(f"<td>{escape(_said(v.get(k)))}</td>" for k in names) + "</tr>" for v in records)
    return f"<table><tr>{head}</tr>{rows}</table>"
