"""Word when nobody is looking: paused campaign, broken senders, jumps, mailed to colleagues and posted to a web address, once."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import UTC, datetime

from openmeadow.core.delivery.guardrails import evidence
from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.moments import DAY
from openmeadow.net.http_client import Unreachable, fetch
from openmeadow.services import models
from openmeadow.services.health import provider_health
from openmeadow.services.senders import relay
from openmeadow.services.subscribers import own_mail
from openmeadow.services.today import overview
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.health import health

WORTH_A_WORD = ("Relay", "Paused", "Sender", "Unconfirmed", "DMARC", "Spike")


def quiet(workspace: Workspace) -> bool:
    """Whether it is now within the quiet hours ("22-7"), in the workspace's zone."""
    span = str(workspace.setting("quiet_hours"))
    begin, sign, end = span.partition("-")
    if not sign or not begin.strip().isdigit() or not end.strip().isdigit():
        return False
    hour = datetime.fromtimestamp(workspace.now(), UTC).astimezone(workspace.zone).hour
    a, b = int(begin), int(end)
    return a <= hour < b if a <= b else hour >= a or hour < b


SPIKE_EVIDENCE = 20  # from which a rate is surely over its limit, as for guardrails


def jumps(workspace: Workspace) -> list[models.Decision]:
    """Providers whose complaints or blocks of the last day are beyond their limit, by the guardrails' test."""
    out = []
    for p in provider_health.providers(workspace, workspace.view()):
        sent = sum(p.days["sent"][-2:])
        for word in ("complaints", "blocked"):
            k, limit = sum(p.days[word][-2:]), p.limits[word]
            if sent and evidence(k, max(sent, k), limit) >= SPIKE_EVIDENCE:
                words = f"{k:,} {word} of {sent:,} sent to {p.name} in two days, over the limit of {100 * limit:g}%."
                title = f"{word.capitalize()} at {p.name}."
                out.append(models.Decision(kind="Spike", title=title, detail=words, link="/health", act="Review"))
    return out


@dataclass(frozen=True)
class Alert:
    """Something worth an alert. The key changes when the matter does."""

    key: str
    sentence: str
    link: str


def news(workspace: Workspace) -> list[Alert]:
    """What deserves an alert now."""
    out = []
    gone = relay.away(workspace)
    too_early = gone is not None and workspace.now() - gone.since < relay.ALERT_AFTER
    for d in [*overview.decisions(workspace, workspace.view()), *jumps(workspace)]:
        if d.kind not in WORTH_A_WORD or (d.kind == "Relay" and too_early):
            continue
        sentence, when = f"{d.title} {d.detail}", ""
        if d.kind == "Spike":
            when = str(workspace.now() // DAY)
        elif d.kind == "Relay" and gone is not None:
            when = str(gone.since)
        changes = d.kind not in ("Spike", "Relay")  # their detail counts on while the matter is the same
        mark = f"{d.kind} {d.link} {sentence if changes else d.title} {when}"
        key = hashlib.sha256(mark.encode()).hexdigest()[:32]
        out.append(Alert(key, sentence, f"{workspace.setting('public_url')}{d.link}"))
    return out


def _post(url: str, document: dict[str, str], allowed: list[str]) -> None:
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
        raise Refused(f"{url[:80]} rejected the alert: {e}.") from e
    if not 200 <= reply.status < 300:
        raise Refused(f"{url[:80]} rejected the alert.")


def send(workspace: Workspace, sentence: str, link: str) -> int:
    """One word to everybody who is to have it; how many places took it. Refused when none did."""
    settings = settings_table.settings(workspace.store.read())
    places, taken, problems = 0, 0, []
    for to in settings["alert_to"]:
        places += 1
        try:
            if own_mail.send_text(workspace, str(to), f"Open Meadow: {sentence[:80]}", f"{sentence}\n\n{link}\n"):
                taken += 1
            else:
                problems.append(f"{to} could not be emailed")
        except MeadowError as e:
            problems.append(f"{to} could not be emailed: {str(e).rstrip('.')}")
    if settings["alert_url"]:
        places += 1
        try:
            _post(str(settings["alert_url"]), {"text": sentence, "link": link}, settings["inside_hosts"])
            taken += 1
        except Refused as e:
            problems.append(str(e).rstrip("."))
    if not places:
        raise Refused("No alert recipients are set. Add an email address or a webhook.")
    if not taken:
        raise Refused("; ".join(problems) + ".")
    return taken


def tend(workspace: Workspace) -> int:
    """Send what is new, once; within quiet hours it waits. How many words."""
    settings = settings_table.settings(workspace.store.read())
    if not (settings["alert_to"] or settings["alert_url"]) or quiet(workspace):
        return 0
    sent = 0
    for n in news(workspace):
        if health.word_sent(workspace.store.read(), n.key):
            continue
        try:
            send(workspace, n.sentence, n.link)
        except MeadowError:
            continue  # tried again with the next look; the others are not kept waiting
        with workspace.store.atomic() as db:
            health.send_word(db, n.key, workspace.now(), n.sentence)
            settings_table.log(db, workspace.now(), "worker", "sent alert", n.sentence[:120])
        sent += 1
    return sent
