"""Changing settings: checked by their own rows, all of them or none, each in the activity log with old and new value."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.settings import SETTINGS, Setting, Value, checked, shown
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, users

ASKED = "approval_off_asked"
THRESHOLDS = {"strong_from", "steady_from"}
LONGEST_SAID = 300  # characters of a value in the activity log


def _setting(name: str) -> Setting:
    if name not in SETTINGS:
        raise Missing(f"There is no setting “{name[:60]}”.")
    return SETTINGS[name]


def weakens(workspace: Workspace, values: Mapping[str, Value]) -> bool:
    """Whether a change takes a protection away, so that the password has to be given again."""
    out = False
    for name, value in values.items():
        setting = _setting(name)
        try:
            out = out or setting.weakens(workspace.setting(name), checked(setting, value))
        except ValueError:
            continue  # said by the change itself
    return out


def approval_off_asked_by(workspace: Workspace) -> str:
    """The analyst who asked to turn approval off and waits for another one; "" for none."""
    return str(dict(workspace.setting(ASKED)).get("name", ""))


def change(workspace: Workspace, values: Mapping[str, Value], who: str, user: int | None = None) -> dict[str, Value]:
    """Change settings; the values as they are kept. ``user`` None is the command line. Approval is switched off by two
    analysts where there are two: the first asks, another one does it."""
    kept = {}
    for name, value in values.items():
        try:
            kept[name] = checked(_setting(name), value)
        except ValueError as e:
            raise Refused(str(e)) from e
    from openmeadow.store.subscribers.subscribers import facts_changed  # heavy, and showing a setting does without

    with workspace.store.atomic() as db:
        asks = _approval(workspace, kept, who, user)
        for name, value in kept.items():
            old = settings.setting(db, name)
            if old != value:
                settings.set_setting(db, name, value)
                settings.log(db, workspace.now(), who, "set", _said(name, old, value))
        if THRESHOLDS & set(kept):
            _check_thresholds(db)
        if asks:
            settings.set_setting(db, ASKED, {"id": user, "name": who})
            settings.log(db, workspace.now(), who, "asked to turn approval off", "another analyst confirms it")
        facts_changed(db)
    return kept


def _check_thresholds(db: sqlite3.Connection) -> None:
    """Bands of now follow their thresholds at once, and so do those of past month ends; Refused where they cross."""
    if float(settings.setting(db, "strong_from")) <= float(settings.setting(db, "steady_from")):
        raise Refused("Strong must begin at a higher score than Steady.")
    from openmeadow.store.engagement import event_hours

    event_hours.forget_points(db)


def _approval(workspace: Workspace, kept: dict[str, Value], who: str, user: int | None) -> bool:
    """Takes "approval off" out of a change that has to wait for a second analyst; whether it did."""
    db = workspace.store.writer
    if kept.get("require_approval") is None:
        return False
    asked = dict(settings.setting(db, ASKED))
    switched_off = not kept["require_approval"] and bool(settings.setting(db, "require_approval"))
    waits = switched_off and user is not None and users.count_analysts(db) > 1 and asked.get("id") in (None, user)
    if waits:
        del kept["require_approval"]
        return True
    if asked:
        settings.set_setting(db, ASKED, {})
    return False


def _said(name: str, old: Value, new: Value) -> str:
    setting = SETTINGS[name]
    before, after = (json.dumps(shown(setting, v), ensure_ascii=False)[:LONGEST_SAID] for v in (old, new))
    return f"{name}: {before} → {after}" if setting.kind != "secret" else f"{name}: changed"
