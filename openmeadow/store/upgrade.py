"""What a migration does beyond SQL: rules, plans and sequences of an older version written in the words of this one."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from openmeadow.core.message.html_scan import put_away

_NAME = r'"(?:[^"]|"")*"'
# clauses of rules before 0.10, in the order in which they are looked for, and how they are written now
_CLAUSES: tuple[tuple[str, str], ...] = (
    (rf"left\s+({_NAME})\s+unanswered", r"ignored \1"),
    (r"unanswered\s+(at\s+(?:least|most)\s+[\d.]+)", r"ignored \1 in a row"),
    (r"never\s+answered", "never engaged"),
    (r"no\s+answer\s+in\b", "not engaged in"),
    (r"last\s+answer\b", "last engaged"),
    (r"got(\s+at)\b", r"received\1"),
    (rf"(consent\s+to\s+{_NAME})\s+came\s+from\s+({_NAME})", r"\1 from source \2"),
    (rf"(consent\s+to\s+{_NAME}\s+by\s+\w+\s+is)\s+awaiting", r"\1 pending"),
    (rf"came\s+by\s+({_NAME})", r"source is \1"),
    (rf"inside\s+sequence\s+({_NAME})", r"in sequence \1"),
    (r'suppressed\s+for\s+"let go"', 'suppressed for "inactive"'),
)
_BANDS = {"silent": "Inactive", "veiled": "Masked"}
_VERDICTS = {"good": "deliverable", "bad": "undeliverable", "unknown": "unknown or not checked"}
_WORDS = re.compile(rf"({_NAME})|(\b(?:band|address)\s+is\s+(?:\w+)(?:\s+or\s+\w+)*)", re.I)
_SEGMENT = re.compile(r'(\bin\s+segment\s+")([^"]*)"', re.I)

Json = Any  # of an older version, in whatever form that version kept it


def rule_in_new_words(text: str) -> str:
    """A rule of before 0.10 in the words of now."""
    for before, after in _CLAUSES:
        text = _outside_names(before, after, text)
    text = _SEGMENT.sub(lambda m: m.group(1) + _segment_name(m.group(2)) + '"', text)
    return _WORDS.sub(lambda m: m.group(1) or _states(m.group(2)), text)


def _segment_name(name: str) -> str:
    """The name now of a segment that the application made itself."""
    return _STARTERS.get(name) or re.sub(r": silent$", ": no reply", name)


def _outside_names(pattern: str, after: str, text: str) -> str:
    """The text with a pattern replaced where it begins outside quotes."""
    out, at = [], 0
    for m in re.finditer(rf"{_NAME}|\b(?:{pattern})", text, re.I):
        if not m.group().startswith('"'):
            out += [text[at : m.start()], re.sub(rf"\b(?:{pattern})", after, m.group(), flags=re.I)]
            at = m.end()
    return "".join([*out, text[at:]])


def _states(clause: str) -> str:
    head, _, states = re.split(r"(\bis\s+)", clause, maxsplit=1, flags=re.I)
    known = _BANDS if head.strip().lower() == "band" else _VERDICTS
    words = re.split(r"\s+or\s+", states, flags=re.I)
    return f"{head.strip()} is {' or '.join(known.get(w.lower(), w) for w in words)}"


_PLAN = {
    "lead_share": "pilot_share",
    "held_share": "holdout_share",
    "arms": "variants",
    "let_go_days": "suppress_after_days",
    "let_go_done": "suppressed_at",
}
_PLAN_VALUES = {"not answered": "not engaged", "by lot": "at random"}
_STEP_KINDS = {"repeat": "resend", "question": "condition", "let go": "suppress"}
_LEADS = {"go on": "continue", "second lane": "follow-up path"}
_BEGINS = {"by hand": "manual", "sign-up pending": "sign-up pending"}


def _plan(plan: Mapping[str, Json]) -> dict[str, Json]:
    return {
        _PLAN.get(k, k): _PLAN_VALUES.get(v, v) if k in ("order", "resend_rule") and isinstance(v, str) else v
        for k, v in plan.items()
    }


def _definition(old: Mapping[str, Json]) -> dict[str, Json]:
    """A sequence's steps, entry and exit."""
    steps = []
    for step in old.get("steps", ()):
        new = {"path" if k == "lane" else k: v for k, v in step.items()}
        new["kind"] = _STEP_KINDS.get(new.get("kind", ""), new.get("kind"))
        for k in ("yes", "no"):
            new[k] = _LEADS.get(new.get(k, ""), new.get(k))
        if new.get("asks") == "answered":
            new["asks"] = "engaged"
        new["rule"] = rule_in_new_words(new.get("rule", ""))
        steps.append(new)
    begin = {"random" if k == "by_lot" else k: v for k, v in old.get("begin", {}).items()}
    begin["on"] = _BEGINS.get(begin.get("on", ""), begin.get("on", "manual"))
    leave = {"engaged" if k == "answered" else k: v for k, v in old.get("leave", {}).items()}
    leave["rule"] = rule_in_new_words(leave.get("rule", ""))
    return {"steps": steps, "begin": begin, "leave": leave, "holdout": old.get("held_back", 0.0)}


def _blocks(value: Json) -> Json:
    """Blocks of a message: kinds, and every condition within."""
    if isinstance(value, list):
        return [_blocks(v) for v in value]
    if not isinstance(value, dict):
        return value
    if value.get("kind") == "picture":
        value = {**value, "kind": "image"}
    return {
        k: rule_in_new_words(v) if k in ("rule", "only_for") and isinstance(v, str) else _blocks(v)
        for k, v in value.items()
    }


def _conditions(text: str) -> str:
    """A message's text with the rules of its conditions rewritten; all else stays byte for byte."""
    if "holds" not in text:
        return text
    parts: list[str] = []

    def one(_: int, part: Json) -> str:
        parts.append(re.sub(r"holds\((.*)\)", _condition, part.text, flags=re.S))
        return parts[-1]

    return put_away(text, one)[0]


def _condition(m: re.Match[str]) -> str:
    quote = m.group(1).strip()[:1]
    if quote not in "\"'":
        return m.group()
    inner = m.group(1).strip()[1:-1].replace('\\"', '"').replace("\\'", "'")
    new = rule_in_new_words(inner).replace(quote, "\\" + quote)
    return f"matches({quote}{new}{quote})"


def _each(db: sqlite3.Connection, table: str, columns: Mapping[str, Callable[[str], str]]) -> None:
    """Rewrite text columns of a table, row by row, where they change."""
    names = ", ".join(columns)
    for row in db.execute(f"SELECT rowid AS at, {names} FROM {table}").fetchall():
        changed = {c: new for c, f in columns.items() if row[c] and (new := f(row[c])) != row[c]}
        if changed:
            sets = ", ".join(f"{c} = ?" for c in changed)
            db.execute(f"UPDATE {table} SET {sets} WHERE rowid = ?", (*changed.values(), row["at"]))


def _json(f: Callable[[Json], Json]) -> Callable[[str], str]:
    return lambda text: json.dumps(f(json.loads(text)), ensure_ascii=False)


_SETTINGS = {
    "word_to": "alert_to",
    "word_url": "alert_url",
    "second_pair": "require_approval",
    "tell_back": "conversion_id",
    "require_checked": "require_address_check",
    "placement_boxes": "seed_mailboxes",
    "clean_up": "sunset_policy",
    "clean_up_ran_at": "sunset_ran_at",
    "clean_up_to_start": "sunset_to_start",
    "frame": "layout",
    "record_opens": "track_opens",
}
_STARTERS = {
    "Answered lately": "Recently engaged",
    "Inactive, never answered": "Inactive, never engaged",
    "Inactive, stopped answering": "Inactive, stopped engaging",
    "Veiled": "Masked",
    "Book but do not open": "Book without opening",
    "About to fall Silent": "About to become inactive",
}


def _sunset(value: Json) -> Json:
    return {_SUNSET.get(k, k): v for k, v in value.items()} if isinstance(value, dict) else value


_SUNSET = {"ask_veiled": "ask_masked", "by_itself": "automatic"}
_EXITS = {"answered": "engaged", "taken out by": "removed by"}
_RECORD_STATES = {"holds": "pass", "mend": "warning", "broken": "fail"}


def _records(records: list[dict[str, Json]]) -> list[dict[str, Json]]:
    return [{**r, "state": _RECORD_STATES.get(r.get("state", ""), r.get("state"))} for r in records]


def _plain_words(db: sqlite3.Connection, folder: Path) -> None:
    if (folder / "pictures").is_dir() and not (folder / "images").exists():
        (folder / "pictures").rename(folder / "images")
    _each(db, "domains", {"records": _json(_records)})
    for before, after in _RECORD_STATES.items():
        for column in ("before", "after"):
            db.execute(f"UPDATE record_changes SET {column} = ? WHERE {column} = ?", (after, before))
    for table in ("segments", "snapshots"):
        _each(db, table, {"rule": rule_in_new_words})
    for name in [r["name"] for r in db.execute("SELECT name FROM segments").fetchall()]:
        db.execute("UPDATE OR IGNORE segments SET name = ? WHERE name = ?", (_segment_name(name), name))
    for table in ("sequences", "sequence_versions"):
        _each(db, table, {"definition": _json(_definition)})
    _each(db, "campaigns", {"plan": _json(_plan)})
    for table in ("campaigns", "campaign_versions", "templates"):
        texts: dict[str, Callable[[str], str]] = dict.fromkeys(("subject", "preview", "html", "plain"), _conditions)
        _each(db, table, {**texts, "blocks": _json(_blocks)})
    for before, after in _EXITS.items():
        db.execute("UPDATE enrolments SET exit_reason = replace(exit_reason, ?, ?)", (before, after))
    for row in db.execute("SELECT name, value FROM settings WHERE name = 'clean_up'").fetchall():
        db.execute("UPDATE settings SET value = ? WHERE name = ?", (_json(_sunset)(row["value"]), row["name"]))
    for before, after in _SETTINGS.items():
        db.execute("UPDATE OR REPLACE settings SET name = ? WHERE name = ?", (after, before))


# by migration; each takes the writing connection and the data folder
AFTER: dict[str, Callable[[sqlite3.Connection, Path], None]] = {"0026_plain_words.sql": _plain_words}
