"""Word when nobody is looking: held plans, broken senders, jumps, mailed to colleagues and posted to a web address, once."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.planning.guardrails import evidence
from openmeadow.desk import health as provider_health
from openmeadow.desk import joining, relay, today
from openmeadow.desk.desk import Desk
from openmeadow.store import health, workspace
from openmeadow.wire.http_client import Unreachable, fetch

WORTH_A_WORD = ("Relay", "Held", "Sender", "In doubt", "Reports", "Jump")


def quiet(desk: Desk) -> bool:
    """Whether it is now within the quiet hours ("22-7"), in the workspace's zone."""
    span = str(desk.setting("quiet_hours"))
    begin, sign, end = span.partition("-")
    if not sign or not begin.strip().isdigit() or not end.strip().isdigit():
        return False
    hour = datetime.fromtimestamp(desk.now(), UTC).astimezone(ZoneInfo(str(desk.setting("time_zone")))).hour
    a, b = int(begin), int(end)
    return a <= hour < b if a <= b else hour >= a or hour < b


def jumps(desk: Desk) -> list[dict[str, str]]:
    """Providers whose complaints or blocks of the last day are beyond their limit, by the guardrails' test."""
    out = []
    for p in provider_health.providers(desk, desk.view()):
        handed = sum(p["days"]["handed over"][-2:])
        for word in ("complaints", "blocked"):
            k, limit = sum(p["days"][word][-2:]), provider_health.LIMITS[word]
            if handed and evidence(k, max(handed, k), limit) >= 20:
                words = f"{k:,} {word} of {handed:,} handed over to {p['name']} in two days, over the limit of {100 * limit:g}%."
                out.append(
                    {"kind": "Jump", "title": f"{word.capitalize()} at {p['name']}.", "detail": words, "link": "/health"}
                )
    return out


def news(desk: Desk) -> list[dict[str, str]]:
    """What deserves a word now: {"key", "sentence", "link"}. The key changes when the matter does."""
    out = []
    gone = relay.away(desk)
    too_early = gone is not None and desk.now() - gone.since < relay.ALERT_AFTER
    for d in [*today.decisions(desk, desk.view()), *jumps(desk)]:
        if d["kind"] in WORTH_A_WORD and not (d["kind"] == "Relay" and too_early):
            sentence = f"{d['title']} {d['detail']}"
            day = (
                str(desk.now() // 86_400)
                if d["kind"] == "Jump"
                else str(gone.since)
                if gone and d["kind"] == "Relay"
                else ""
            )
            changes = d["kind"] not in ("Jump", "Relay")  # their detail counts on while the matter is the same
            mark = f"{d['kind']} {d['link']} {sentence if changes else d['title']} {day}"
            key = hashlib.sha256(mark.encode()).hexdigest()[:32]
            out.append({"key": key, "sentence": sentence, "link": f"{desk.setting('public_url')}{d['link']}"})
    return out


def _post(url: str, document: dict[str, Any], allowed: list[str]) -> None:
    try:
        reply = fetch(
            url,
            method="POST",
            body=json.dumps(document).encode(),
            headers={"Content-Type": "application/json"},
            allowed=allowed,
            largest=1_000,
        )
    except Unreachable as e:
        raise Refused(f"{url[:80]} did not take the word: {e}.") from e
    if not 200 <= reply.status < 300:
        raise Refused(f"{url[:80]} did not take the word.")


def send(desk: Desk, sentence: str, link: str) -> int:
    """One word to everybody who is to have it; how many places took it. Refused when none did."""
    settings = workspace.settings(desk.store.read())
    places, taken, problems = 0, 0, []
    for to in settings["word_to"]:
        places += 1
        try:
            if joining.send_text(desk, str(to), f"Open Meadow: {sentence[:80]}", f"{sentence}\n\n{link}\n"):
                taken += 1
            else:
                problems.append(f"{to} could not be mailed")
        except MeadowError as e:
            problems.append(f"{to} could not be mailed: {str(e).rstrip('.')}")
    if settings["word_url"]:
        places += 1
        try:
            _post(str(settings["word_url"]), {"text": sentence, "link": link}, settings["inside_hosts"])
            taken += 1
        except Refused as e:
            problems.append(str(e).rstrip("."))
    if not places:
        raise Refused("Nobody is chosen to get word: give addresses, or a web address.")
    if not taken:
        raise Refused("; ".join(problems) + ".")
    return taken


def tend(desk: Desk) -> int:
    """Send what is new, once; within quiet hours it waits. How many words."""
    settings = workspace.settings(desk.store.read())
    if not (settings["word_to"] or settings["word_url"]) or quiet(desk):
        return 0
    sent = 0
    for n in news(desk):
        if health.word_sent(desk.store.read(), n["key"]):
            continue
        try:
            send(desk, n["sentence"], n["link"])
        except MeadowError:
            continue  # tried again with the next look; the others are not kept waiting
        with desk.store.atomic() as db:
            health.send_word(db, n["key"], desk.now(), n["sentence"])
            workspace.log(db, desk.now(), "worker", "sent word", n["sentence"][:120])
        sent += 1
    return sent
