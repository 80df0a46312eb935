"""Health: what each provider does with our mail by day, what refusals say, the bulk senders' obligations, measured."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from datetime import UTC, datetime
from typing import Any

import numpy as np

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.authentication.dmarc import organisational_domain
from openmeadow.core.columns import DAY, MACHINE, Kind
from openmeadow.core.errors import Refused
from openmeadow.core.reports import figures
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.rules.tree import View
from openmeadow.desk import relay, round_trip
from openmeadow.desk.desk import Desk
from openmeadow.store import health, reports, senders, workspace
from openmeadow.store import relay as relay_table
from openmeadow.store.facts import StoreFacts
from openmeadow.store.providers import by_people
from openmeadow.store.providers import names as provider_names

DAYS = 30
BULK = 5_000  # a day to one provider (7-standards)
GOOD_COMPLAINTS, MOST_COMPLAINTS = 0.001, 0.003
LIMITS = {
    "complaints": 0.003,
    "hard bounces": 0.02,
    "blocked": 0.02,
    "deferred": 0.10,
    "unsubscribed": 0.01,
    "not in the inbox": 0.20,
}
MEASURES = ("handed over", "deferred", "hard bounces", "blocked", "other bounces", "complaints", "unsubscribed")
_NUMBERS = re.compile(
    r"<[^<>]{0,320}>|[^\s@]{1,64}@[^\s@]{1,255}|\b[0-9a-f]{8,}\b|\b\d{1,3}(?:\.\d{1,3}){3}\b|\d{4,}", re.I
)


def providers(desk: Desk, view: View, sender: int = 0) -> list[dict[str, Any]]:
    """Per provider: each measure by day, oldest first, over DAYS; people's and machines' opens beside them. ``sender``
    counts only what was sent from that domain."""
    messages = health.messages_from(desk.store.read(), sender) if sender else None
    assert isinstance(view.facts, StoreFacts)
    names = provider_names(desk.store.read())
    days = {m: np.zeros((len(names), DAYS), np.int64) for m in (*MEASURES, "opened", "machine opens")}
    for r in health.by_day(desk.store.read(), view.now - DAYS * DAY, view.now, messages):
        kind, at = r["kind"], DAYS - 1 - min(int(r["back"]), DAYS - 1)
        if kind == Kind.BOUNCED:
            word = {"hard": "hard bounces", "blocked": "blocked"}.get(
                bounce_class(r["code"], r["diagnostic"]), "other bounces"
            )
        else:
            word = {1: "handed over", 3: "deferred", 9: "complaints", 10: "unsubscribed"}[kind]
        if kind == Kind.DEFERRED and bounce_class(r["code"], r["diagnostic"]) == "blocked":
            word = "blocked"  # one or the other, never both
        days[word][r["provider"], at] += r["n"]
    acts = view.columns.acts
    hit = (acts.kind == Kind.OPENED) & (acts.at > view.now - DAYS * DAY) & (acts.at <= view.now)
    if messages is not None:
        hit &= np.isin(acts.message, messages)
    back = DAYS - 1 - np.minimum((view.now - acts.at[hit]) // DAY, DAYS - 1)
    place = view.facts.provider[acts.person[hit]].astype(np.int64) * DAYS + back
    machine = acts.by[hit] == MACHINE
    for word, some in (("opened", ~machine), ("machine opens", machine)):
        days[word] += np.bincount(place[some], minlength=len(names) * DAYS).reshape(len(names), DAYS)
    for word in ("copies", "not in the inbox"):
        days[word] = np.zeros((len(names), DAYS), np.int64)
    for r in health.placed_by_day(desk.store.read(), view.now - DAYS * DAY, view.now):
        if r["provider"] in names:
            which = (names.index(r["provider"]), DAYS - 1 - min(int(r["back"]), DAYS - 1))
            days["copies"][which] += r["n"]
            days["not in the inbox"][which] += r["n"] if r["folder"] != "inbox" else 0
    people = np.bincount(view.facts.provider[view.alive], minlength=len(names))
    order = by_people(names, people)
    return [
        {"name": names[i], "people": int(people[i]), "days": {w: d[i].tolist() for w, d in days.items()}} for i in order
    ]


def own_figures(desk: Desk) -> dict[str, dict[str, Any]]:
    """What each provider itself said in DAYS: {"spam_rate" the worst day's, "spam_day", "reputation" the last, "day"}."""
    since = datetime.fromtimestamp(desk.now() - DAYS * DAY, UTC).date().isoformat()
    out: dict[str, dict[str, Any]] = {}
    for r in health.figures(desk.store.read(), since):
        said = out.setdefault(r["provider"], {"spam_rate": None, "spam_day": "", "reputation": "", "day": ""})
        if r["spam_rate"] is not None and (said["spam_rate"] is None or r["spam_rate"] >= said["spam_rate"]):
            said |= {"spam_rate": r["spam_rate"], "spam_day": r["day"]}
        if r["reputation"]:
            said |= {"reputation": r["reputation"], "day": r["day"]}
    return out


def take_figures(desk: Desk, text: str, who: str) -> tuple[int, list[str]]:
    """Keep providers' own figures from a CSV: how many rows, and what was refused."""
    found, refused = figures.read(text, provider_names(desk.store.read()))
    if not found:
        raise Refused(refused[0] if refused else "There is no row in this file.")
    with desk.store.atomic() as db:
        n = health.keep_figures(db, ((f.provider, f.domain, f.day, f.spam_rate, f.reputation) for f in found), desk.now())
        workspace.log(db, desk.now(), who, "brought in providers' own figures", f"{n} rows")
    return n, refused


def refusals(desk: Desk) -> list[dict[str, Any]]:
    """What refusals say, grouped by provider, class and text without its numbers and addresses; the most first."""
    now, names = desk.now(), provider_names(desk.store.read())
    groups: dict[tuple[int, str, str], dict[str, Any]] = {}
    for r in reports.refusals(desk.store.read(), now - DAYS * DAY, now):
        kind = "deferred" if r["kind"] == Kind.DEFERRED else bounce_class(r["code"], r["diagnostic"])
        if kind == "deferred" and bounce_class(r["code"], r["diagnostic"]) == "blocked":
            kind = "blocked"
        text = " ".join(_NUMBERS.sub("…", f"{r['code']} {r['diagnostic']}").split())[:160] or "no text"
        key = (r["provider"], kind, text)
        g = groups.setdefault(
            key,
            {
                "provider": names[r["provider"]],
                "class": kind,
                "text": text,
                "count": 0,
                "first": r["first"],
                "last": r["last"],
            },
        )
        g["count"] += r["n"]
        g["first"], g["last"] = min(g["first"], r["first"]), max(g["last"], r["last"])
    return sorted(groups.values(), key=lambda g: -g["count"])[:40]


def obligations(desk: Desk, view: View) -> list[dict[str, Any]]:
    """What bulk senders must have, each measured from what was sent and received: {"duty", "state", "evidence",
    "since"}; ``since`` None where it is not known."""
    db, out = desk.store.read(), []
    names = provider_names(desk.store.read())
    most = {r["provider"]: r["most"] for r in health.most_in_a_day(db, view.now - DAYS * DAY)}
    busiest = max(most, key=lambda p: most[p], default=None)
    bulk = busiest is not None and most[busiest] >= BULK
    said = f"At most {most[busiest]:,} in a day to {names[busiest]}" if busiest is not None else "Nothing was sent"
    out.append(
        {
            "duty": "Counts as a bulk sender",
            "state": "yes" if bulk else "no",
            "evidence": f"{said} in {DAYS} days; from {BULK:,} a day to one provider on, all of this is required.",
            "since": None,
        }
    )
    domains = senders.domains(db)
    for duty, records in (
        ("SPF passes", ("SPF",)),
        ("DKIM passes", ("DKIM", "Signature")),
        ("DMARC, aligned", ("DMARC",)),
        ("Reverse DNS matches", ("Reverse DNS",)),
    ):
        out.append(_by_records(desk, domains, duty, records))
    out.append(_relay_tls(desk))
    out.append(_one_click(desk, domains, view.now))
    out.append(_complaints(desk, view))
    out.append(_freemail_from(desk))
    return out


def _one_click(desk: Desk, domains: list[Any], now: int) -> dict[str, Any]:
    """One click unsubscribes only over https (RFC 8058), and only where the public address answers: that is what the
    round trip presses."""
    url, n = str(desk.setting("public_url")), health.one_clicks(desk.store.read(), now - DAYS * DAY)
    took = f"{n:,} unsubscribed in {DAYS} days, each at the moment of the click"
    trips = [d for d in domains if d["proof_click_at"] is not None]
    refused = [d["name"] for d in trips if d["proof_click_at"] == round_trip.REFUSED]
    since = max((d["proof_click_at"] for d in trips if d["proof_click_at"] > 0), default=None)
    if refused:
        state, evidence = "broken", f"The one-click of a message from {', '.join(refused)} was refused; {took}."
    elif not url.startswith("https://"):
        demo = bool(desk.setting("demo"))
        state = "holds" if demo else "broken"
        words = (
            "the demo's own machine"
            if demo
            else "not https, so readers' programs do not offer it: set public_url to https"
        )
        evidence = f"{url} is {words}; {took}."
    elif since is None and n:
        state, evidence = "holds", f"Over https; {took}."
    elif since is None:
        state, evidence = "unknown", "Over https, but no one-click has been answered yet."
    else:
        state, evidence = "holds", f"Over https, and the one-click of a message that went round was answered; {took}."
    return {"duty": "One-click unsubscribe within two days", "state": state, "evidence": evidence, "since": since}


def _freemail_from(desk: Desk) -> dict[str, Any]:
    """Whether any sender is at a domain where anybody can have an address, by the list and what the workspace adds."""
    own, db = desk.setting("freemail_domains"), desk.store.read()
    wrong = [d["name"] for d in senders.domains(db) if is_freemail(d["name"], own)]
    n = len(senders.addresses(db))
    evidence = (
        f"Freemail domains among the senders: {', '.join(wrong)}."
        if wrong
        else f"None of {n:,} from-addresses is at a freemail domain."
    )
    state = "broken" if wrong else "holds" if n else "unknown"
    return {"duty": "No freemail From", "state": state, "evidence": evidence, "since": None}


def _relay_tls(desk: Desk) -> dict[str, Any]:
    """From what real connections to the relay were, now and not when a sender was last looked up."""
    found, s = relay.finding(desk), relay.relay_settings(desk)
    kinds = relay_table.connections_to(desk.store.read(), s.host, s.port)
    evidence = f"{found.found[:1].upper()}{found.found[1:]}. {found.meaning}"
    return {
        "duty": "TLS to the relay",
        "state": found.state,
        "evidence": evidence,
        "since": kinds[0].first_at if kinds and found.state == "holds" else None,
    }


def _by_records(desk: Desk, domains: list[Any], duty: str, records: tuple[str, ...]) -> dict[str, Any]:
    order = ("broken", "unknown", "mend", "holds")
    worst, words, since = "holds" if domains else "unknown", [], []
    for d in domains:
        mine = [r for r in json.loads(d["records"]) if r["record"].startswith(records)]
        state = min((r["state"] for r in mine), key=order.index, default="unknown")
        if order.index(state) < order.index(worst):
            worst = state
        if state != "holds":
            words.append(f"{d['name']}: {next((r['found'] for r in mine if r['state'] == state), 'not looked up yet')}")
        moments = [m for r in mine if (m := health.holds_since(desk.store.read(), d["id"], r["record"])) is not None]
        since += moments
    orgs = ", ".join(sorted({organisational_domain(d["name"]) for d in domains})) or "no domain"
    return {
        "duty": duty,
        "state": worst,
        "evidence": "; ".join(words) or f"Looked up for every sender of {orgs}.",
        "since": max(since, default=None),
    }


def _complaints(desk: Desk, view: View) -> dict[str, Any]:
    found = providers(desk, view)
    handed = sum(sum(p["days"]["handed over"]) for p in found)
    complained = sum(sum(p["days"]["complaints"]) for p in found)
    rate = complained / handed if handed else 0.0
    worst = 0.0
    for p in found:
        week: dict[int, list[int]] = defaultdict(lambda: [0, 0])
        for i, (h, c) in enumerate(zip(p["days"]["handed over"], p["days"]["complaints"], strict=True)):
            week[i // 7][0] += h
            week[i // 7][1] += c
        worst = max([worst, *(c / h for h, c in week.values() if h >= 500)])
    told = {n: float(f["spam_rate"]) for n, f in own_figures(desk).items() if f["spam_rate"] is not None}
    own = max(told.values(), default=0.0)
    by_them = (
        f"Providers' own figures: {', '.join(f'{n} {100 * x:.2f}%' for n, x in sorted(told.items()))}."
        if told
        else "Only complaints that providers report can be seen."
    )
    state = (
        "broken" if max(worst, rate, own) >= MOST_COMPLAINTS else "mend" if max(rate, own) >= GOOD_COMPLAINTS else "holds"
    )
    return {
        "duty": "Complaints under 0.1%, never 0.3%",
        "state": state if handed or told else "unknown",
        "evidence": f"{100 * rate:.3f}% of {handed:,} handed over in {DAYS} days; the worst week at one provider "
        f"{100 * worst:.2f}%. {by_them}",
        "since": None,
    }


def receivers(desk: Desk) -> dict[str, Any]:
    """Aggregate reports: sources by domain and day, aligned or not; which are known."""
    db, since = desk.store.read(), desk.now() - 90 * DAY
    ours = set(desk.setting("relay_ips"))
    return {
        "sources": [
            {
                "domain": r["domain"],
                "ip": r["ip"],
                "messages": r["messages"],
                "aligned": r["aligned"],
                "acted": r["acted"],
                "first": r["first"],
                "last": r["last"],
                "signed_by": r["dkim_domain"] or r["spf_domain"] or "",
                "name": r["name"] or ("your relay" if r["ip"] in ours else ""),
                "ours": bool(r["ours"]) if r["ours"] is not None else r["ip"] in ours,
            }
            for r in reports.sources(db, since)
        ],
        "days": [dict(r) for r in reports.by_day(db, since)],
        "reports": [
            {k: r[k] for k in ("org", "report_id", "domain", "begin_at", "end_at", "policy")}
            | {"messages": r["messages"] or 0}
            for r in reports.reports(db)
        ],
    }


def unknown_sources(desk: Desk) -> list[dict[str, Any]]:
    """Sources nobody has named whose mail fails: somebody sends in our name."""
    return [s for s in receivers(desk)["sources"] if not s["name"] and s["aligned"] < s["messages"]]
