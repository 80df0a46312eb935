"""What names a purpose, a provider, a segment or a field goes on naming it when it is renamed."""

from __future__ import annotations

import json
import sqlite3

from pydantic import JsonValue

from openmeadow.core.rules.renaming import renamed_text
from openmeadow.store import settings

ENTERS, ON_A_DATE = "enters a segment", "a date"  # how a sequence begins
_TEXTS = ("subject", "preview", "html", "plain")
_MESSAGES = ("campaigns", "campaign_versions", "templates")


def rules_renamed(db: sqlite3.Connection, kind: str, before: str, after: str) -> None:
    """In segments, their snapshots, sequences in every version, and the conditions of messages."""
    for table in ("segments", "snapshots"):
        for r in db.execute(f"SELECT id, rule FROM {table}").fetchall():
            new = renamed_text(r["rule"], kind, before, after)
            if new != r["rule"]:
                db.execute(f"UPDATE {table} SET rule = ? WHERE id = ?", (new, r["id"]))
    for table in ("sequences", "sequence_versions"):
        for r in db.execute(f"SELECT rowid AS row, definition FROM {table}").fetchall():
            new = json.dumps(_definition(json.loads(r["definition"]), kind, before, after))
            if new != r["definition"]:
                db.execute(f"UPDATE {table} SET definition = ? WHERE rowid = ?", (new, r["row"]))
    for table in _MESSAGES:
        for r in db.execute(f"SELECT rowid AS row, blocks, {', '.join(_TEXTS)} FROM {table}").fetchall():
            changed: dict[str, str | None] = {t: _message(r[t], kind, before, after) for t in _TEXTS}
            changed["blocks"] = _definition_text(r["blocks"], kind, before, after)
            changed = {t: v for t, v in changed.items() if v != r[t]}
            if changed:
                sets = ", ".join(f"{t} = ?" for t in changed)
                db.execute(f"UPDATE {table} SET {sets} WHERE rowid = ?", (*changed.values(), r["row"]))


def purpose_renamed(db: sqlite3.Connection, before: str, after: str) -> None:
    """Rules, consent requests and the sunset policy go on meaning the same purpose."""
    rules_renamed(db, "purpose", before, after)
    for r in db.execute("SELECT id, asks FROM campaigns WHERE asks <> '[]'").fetchall():
        asks = [after if a == before else a for a in json.loads(r["asks"])]
        db.execute("UPDATE campaigns SET asks = ? WHERE id = ?", (json.dumps(asks), r["id"]))
    policy = settings.setting(db, "sunset_policy")
    if isinstance(policy, dict) and policy.get("purpose") == before:
        settings.set_setting(db, "sunset_policy", {**policy, "purpose": after})


def _definition(value: JsonValue, kind: str, before: str, after: str) -> JsonValue:
    """Every rule within, whatever it is part of."""
    if isinstance(value, list):
        return [_definition(v, kind, before, after) for v in value]
    if isinstance(value, str) and kind == "field":
        from openmeadow.core.message.personalisation import field_renamed  # heavy, and names change seldom

        return field_renamed(value, before, after)
    if not isinstance(value, dict):
        return value
    if kind == "segment" and value.get("on") == ENTERS and str(value.get("what", "")).lower() == before.lower():
        value = {**value, "what": after}
    if kind == "field" and value.get("on") == ON_A_DATE and value.get("what") == before:
        value = {**value, "what": after}
    if kind == "field" and value.get("kind") == "field" and value.get("name") == before:
        value = {**value, "name": after}
    return {
        k: renamed_text(v, kind, before, after)
        if k in ("rule", "only_for") and isinstance(v, str)
        else _definition(v, kind, before, after)
        for k, v in value.items()
    }


def _definition_text(text: str | None, kind: str, before: str, after: str) -> str | None:
    return json.dumps(_definition(json.loads(text), kind, before, after)) if text else text


def _message(text: str, kind: str, before: str, after: str) -> str:
    from openmeadow.core.message.personalisation import conditions_changed, field_renamed

    text = conditions_changed(text, lambda rule: renamed_text(rule, kind, before, after))
    return field_renamed(text, before, after) if kind == "field" else text
