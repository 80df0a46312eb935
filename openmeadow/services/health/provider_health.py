"""Health: what each provider does with our mail by day, what refusals say, the bulk senders' obligations, measured."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.authentication.dmarc import organisational_domain
from openmeadow.core.columns import MACHINE
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.reports import provider_statistics
from openmeadow.core.reports.bounces import COUNTED, bounce_class, plain_reason
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import BounceClass, Folder
from openmeadow.services import models
from openmeadow.services.campaigns import guardrails, inbox_placement
from openmeadow.services.health.outcomes import DAYS, Outcomes
from openmeadow.services.senders import relay, round_trip_test
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.engagement import event_hours
from openmeadow.store.health import health, reports
from openmeadow.store.health.providers import by_people
from openmeadow.store.health.providers import limits as provider_limits
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.senders import relay as relay_table
from openmeadow.store.senders import senders
from openmeadow.store.senders.records import Domain

PLACEMENT_DAYS = 90
BULK = 5_000  # a day to one provider
GOOD_COMPLAINTS, MOST_COMPLAINTS = 0.001, 0.003
GUARDRAIL_OF = {  # each measure by the guardrail whose limit it has
    "complaints": "complaints",
    "hard bounces": "hard bounces",
    "blocked": "blocked",
    "deferred": "deferrals",
    "unsubscribed": "unsubscribes",
    "not in inbox": "spam placement",
}
MEASURES = ("sent", "deferred", "hard bounces", "blocked", "other bounces", "complaints", "unsubscribed")


def limits(workspace: Workspace) -> dict[str, dict[str, float]]:
    """The limit of each measure, as a share: the workspace's under "", those of providers with their own by name."""
    whole, own = guardrails.limits(workspace), provider_limits(workspace.store.read())
    return {
        name: {measure: (whole | mine)[g] for measure, g in GUARDRAIL_OF.items()}
        for name, mine in {"": {}, **own}.items()
    }


def providers(workspace: Workspace, view: View, sender: int = 0) -> list[models.ProviderDays]:
    """Per provider: each measure by day, oldest first, over DAYS; people's and machines' opens beside them. ``sender``
    counts only what was sent from that domain."""
    messages = health.messages_from(workspace.store.read(), sender) if sender else None
    assert isinstance(view.facts, StoreFacts)
    names = provider_names(workspace.store.read())
    days = {m: np.zeros((len(names), DAYS), np.int64) for m in (*MEASURES, "opened", "machine opens")}
    db, since = workspace.store.read(), view.now - DAYS * DAY
    counted = event_hours.sent_by_day(db, since, view.now, messages)
    for r in counted + workspace.part(Outcomes).by_day(view.now, messages):
        kind, at = r.kind, DAYS - 1 - min(int(r.back), DAYS - 1)
        if kind == Kind.BOUNCED:
            word = COUNTED.get(bounce_class(r.code, r.diagnostic), "other bounces")
        else:
            word = {1: "sent", 3: "deferred", 9: "complaints", 10: "unsubscribed"}[kind]
        if kind == Kind.DEFERRED and bounce_class(r.code, r.diagnostic) == BounceClass.BLOCKED:
            word = "blocked"  # one or the other, never both
        days[word][r.provider, at] += r.n
    for part in view.parts():
        acts = part.columns.acts
        hit = (acts.at > since) & (acts.at <= view.now)
        hit &= acts.kind == Kind.OPENED
        hit &= part.counts(acts.person)
        if messages is not None:
            hit &= np.isin(acts.message, messages)
        back = DAYS - 1 - np.minimum((view.now - acts.at[hit]) // DAY, DAYS - 1)
        place = view.facts.provider[part.everybodys(acts.person[hit])].astype(np.int64) * DAYS + back
        machine = acts.by[hit] == MACHINE
        for word, some in (("opened", ~machine), ("machine opens", machine)):
            days[word] += np.bincount(place[some], minlength=len(names) * DAYS).reshape(len(names), DAYS)
    for word in ("copies", "not in inbox"):
        days[word] = np.zeros((len(names), DAYS), np.int64)
    for copy in health.placed_by_day(workspace.store.read(), view.now - DAYS * DAY, view.now):
        if copy.provider in names:
            which = (names.index(copy.provider), DAYS - 1 - min(int(copy.back), DAYS - 1))
            days["copies"][which] += copy.n
            days["not in inbox"][which] += copy.n if copy.folder != Folder.INBOX else 0
    people = np.bincount(view.facts.provider[view.alive], minlength=len(names))
    at_most = limits(workspace)
    says, placed = own_figures(workspace), inbox_placement.by_provider(workspace, view.now, PLACEMENT_DAYS)
    return [
        models.ProviderDays(
            name=names[i],
            people=int(people[i]),
            days={w: d[i].tolist() for w, d in days.items()},
            says=says.get(names[i]),
            limits=at_most.get(names[i], at_most[""]),
            placement=placed.get(i, []),
        )
        for i in by_people(names, people)
    ]


def own_figures(workspace: Workspace) -> dict[str, models.OwnFigures]:
    """What each provider itself said in DAYS, by its name: the worst day's complaint rate, and the last standing."""
    since = datetime.fromtimestamp(workspace.now() - DAYS * DAY, UTC).date().isoformat()
    out: dict[str, models.OwnFigures] = {}
    for r in health.figures(workspace.store.read(), since):
        said = out.setdefault(r.provider, models.OwnFigures(complaint_rate=None, complaint_day="", standing="", day=""))
        if r.complaint_rate is not None and (said.complaint_rate is None or r.complaint_rate >= said.complaint_rate):
            said.complaint_rate, said.complaint_day = r.complaint_rate, r.day
        if r.standing:
            said.standing, said.day = r.standing, r.day
    return out


def take_figures(workspace: Workspace, text: str, who: str) -> tuple[int, list[str]]:
    """Keep providers' own figures from a CSV: how many rows, and what was refused."""
    found, refused = provider_statistics.read(text, provider_names(workspace.store.read()))
    if not found:
        raise Refused(refused[0] if refused else "This file has no rows.")
    with workspace.store.atomic() as db:
        n = health.save_figures(
            db, ((f.provider, f.domain, f.day, f.complaint_rate, f.standing) for f in found), workspace.now()
        )
        settings.log(db, workspace.now(), who, "imported provider statistics", f"{n} rows")
    return n, refused


MOST_GROUPS = 40


def refusals(workspace: Workspace) -> list[models.Refusals]:
    """What refusals say, grouped by provider, class and text without its numbers and addresses; the most first."""
    now, names = workspace.now(), provider_names(workspace.store.read())
    groups: dict[tuple[int, str, str], models.Refusals] = {}
    for r in workspace.part(Outcomes).refusals(now):
        kind = "deferred" if r.kind == Kind.DEFERRED else bounce_class(r.code, r.diagnostic)
        if kind == "deferred" and bounce_class(r.code, r.diagnostic) == BounceClass.BLOCKED:
            kind = "blocked"
        text = " ".join(plain_reason(r.code, r.diagnostic)).strip() or "no text"
        g = groups.setdefault(
            (r.provider, kind, text),
            models.Refusals(provider=names[r.provider], kind=kind, text=text, count=0, first=r.first, last=r.last),
        )
        g.count += r.n
        g.first, g.last = min(g.first, r.first), max(g.last, r.last)
    return sorted(groups.values(), key=lambda g: -g.count)[:MOST_GROUPS]


def requirements(
    workspace: Workspace, view: View, found: list[models.ProviderDays] | None = None
) -> list[models.Requirement]:
    """What bulk senders must have, each measured from what was sent and received; ``since`` None where it is not known.
    ``found`` are the providers where they are counted already."""
    found = providers(workspace, view) if found is None else found
    db, out = workspace.store.read(), []
    names = provider_names(workspace.store.read())
    most = {r.provider: r.most for r in event_hours.most_in_a_day(db, view.now - DAYS * DAY)}
    busiest = max(most, key=lambda p: most[p], default=None)
    bulk = busiest is not None and most[busiest] >= BULK
    said = f"At most {most[busiest]:,} a day to {names[busiest]}" if busiest is not None else "Nothing was sent"
    out.append(
        models.Requirement(
            requirement="Counts as a bulk sender",
            state="yes" if bulk else "no",
            evidence=f"{said} in {DAYS} days; from {BULK:,} a day to one provider, all of this is required.",
            since=None,
        )
    )
    domains = senders.domains(db)
    for requirement, records in (
        ("SPF passes", ("SPF",)),
        ("DKIM passes", ("DKIM", "Signature")),
        ("DMARC, aligned", ("DMARC",)),
        ("Reverse DNS matches", ("Reverse DNS",)),
    ):
        out.append(_by_records(workspace, domains, requirement, records))
    out.append(_relay_tls(workspace))
    out.append(_one_click(workspace, domains, view.now))
    out.append(_complaints(workspace, found))
    out.append(_freemail_from(workspace))
    return out


def _one_click(workspace: Workspace, domains: list[Domain], now: int) -> models.Requirement:
    """One click unsubscribes only over https (RFC 8058), and only where the public address answers: that is what the
    round trip presses."""
    url, n = (
        str(workspace.setting("public_url")),
        event_hours.total(workspace.store.read(), Kind.UNSUBSCRIBED, now - DAYS * DAY, now),
    )
    took = f"{n:,} unsubscribed in {DAYS} days, each processed immediately"
    trips = {d.name: d.proof_click_at for d in domains if d.proof_click_at is not None}
    refused = [name for name, at in trips.items() if at == round_trip_test.REFUSED]
    since = max((at for at in trips.values() if at > 0), default=None)
    if refused:
        state, evidence = (
            "fail",
            f"The one-click unsubscribe of a message from {', '.join(refused)} was rejected; {took}.",
        )
    elif not url.startswith("https://"):
        demo = bool(workspace.setting("demo"))
        state = "pass" if demo else "fail"
        words = (
            "the demo's own machine"
            if demo
            else "not https, so mail clients do not offer it: set public_url to an https address"
        )
        evidence = f"{url} is {words}; {took}."
    elif since is None and n:
        state, evidence = "pass", f"Over https; {took}."
    elif since is None:
        state, evidence = "unknown", "Over https, but not tested yet."
    else:
        state, evidence = "pass", f"Over https, tested with a real message; {took}."
    return models.Requirement(
        requirement="One-click unsubscribe within two days", state=state, evidence=evidence, since=since
    )


def _freemail_from(workspace: Workspace) -> models.Requirement:
    """Whether any sender is at a domain where anybody can have an address, by the list and what the workspace adds."""
    own, db = workspace.setting("freemail_domains"), workspace.store.read()
    wrong = [d.name for d in senders.domains(db) if is_freemail(d.name, own)]
    n = len(senders.addresses(db))
    evidence = (
        f"Free mailbox providers among the senders: {', '.join(wrong)}."
        if wrong
        else f"None of {n:,} from addresses is at a free mailbox provider."
    )
    state = "fail" if wrong else "pass" if n else "unknown"
    return models.Requirement(
        requirement="From domain is not a free mailbox provider", state=state, evidence=evidence, since=None
    )


def _relay_tls(workspace: Workspace) -> models.Requirement:
    """From what real connections to the relay were, now and not when a sender was last looked up."""
    found, s = relay.finding(workspace), relay.relay_settings(workspace)
    kinds = relay_table.connections_to(workspace.store.read(), s.host, s.port)
    evidence = f"{found.found[:1].upper()}{found.found[1:]}. {found.meaning}"
    return models.Requirement(
        requirement="TLS to the relay",
        state=found.state,
        evidence=evidence,
        since=kinds[0].first_at if kinds and found.state == "pass" else None,
    )


def _by_records(
    workspace: Workspace, domains: list[Domain], requirement: str, records: tuple[str, ...]
) -> models.Requirement:
    order = ("fail", "unknown", "warning", "pass")
    worst, words, since = "pass" if domains else "unknown", [], []
    for d in domains:
        mine = [r for r in d.records if r["record"].startswith(records)]
        state = min((r["state"] for r in mine), key=order.index, default="unknown")
        if order.index(state) < order.index(worst):
            worst = state
        if state != "pass":
            words.append(f"{d.name}: {next((r['found'] for r in mine if r['state'] == state), 'not checked yet')}")
        moments = [m for r in mine if (m := health.holds_since(workspace.store.read(), d.id, r["record"])) is not None]
        since += moments
    orgs = ", ".join(sorted({organisational_domain(d.name) for d in domains})) or "no domain"
    return models.Requirement(
        requirement=requirement,
        state=worst,
        evidence="; ".join(words) or f"Checked for every sending domain of {orgs}.",
        since=max(since, default=None),
    )


def _complaints(workspace: Workspace, found: list[models.ProviderDays]) -> models.Requirement:
    sent = sum(sum(p.days["sent"]) for p in found)
    complained = sum(sum(p.days["complaints"]) for p in found)
    rate = complained / sent if sent else 0.0
    worst = 0.0
    for p in found:
        week: dict[int, list[int]] = defaultdict(lambda: [0, 0])
        for i, (h, c) in enumerate(zip(p.days["sent"], p.days["complaints"], strict=True)):
            week[i // 7][0] += h
            week[i // 7][1] += c
        worst = max([worst, *(c / h for h, c in week.values() if h >= 500)])
    told = {n: float(f.complaint_rate) for n, f in own_figures(workspace).items() if f.complaint_rate is not None}
    own = max(told.values(), default=0.0)
    by_them = (
        f"Provider statistics: {', '.join(f'{n} {100 * x:.2f}%' for n, x in sorted(told.items()))}."
        if told
        else "Only complaints reported by providers are known."
    )
    state = (
        "fail" if max(worst, rate, own) >= MOST_COMPLAINTS else "warning" if max(rate, own) >= GOOD_COMPLAINTS else "pass"
    )
    return models.Requirement(
        requirement="Complaints under 0.1%, never 0.3%",
        state=state if sent or told else "unknown",
        evidence=f"{100 * rate:.3f}% of {sent:,} sent in {DAYS} days; the worst week at one provider "
        f"{100 * worst:.2f}%. {by_them}",
        since=None,
    )


@dataclass(frozen=True)
class Received:
    """What receivers' aggregate reports say: sources, days by domain, and the reports themselves."""

    sources: list[models.Source]
    days: list[models.ReportDay]
    reports: list[models.AggregateLine]


REPORT_DAYS = 90


def receivers(workspace: Workspace) -> Received:
    """Aggregate reports: sources by domain and day, aligned or not; which are known."""
    db, since = workspace.store.read(), workspace.now() - REPORT_DAYS * DAY
    ours = set(workspace.setting("relay_ips"))
    return Received(
        [
            models.Source(
                domain=r.domain,
                ip=r.ip,
                messages=r.messages,
                aligned=r.aligned,
                spf=r.spf,
                dkim=r.dkim,
                quarantined=r.quarantined,
                rejected=r.rejected,
                reporters=r.reporters.split(","),
                overrides=r.overrides.split(",") if r.overrides else [],
                acted=r.acted,
                first=r.first,
                last=r.last,
                signed_by=r.dkim_domain or r.spf_domain or "",
                name=r.name or ("your relay" if r.ip in ours else ""),
                ours=r.ours if r.ours is not None else r.ip in ours,
            )
            for r in reports.sources(db, since)
        ],
        [models.ReportDay.read_from(r) for r in reports.by_day(db, since)],
        [
            models.AggregateLine(
                org=r.org,
                report_id=r.report_id,
                domain=r.domain,
                begin_at=r.begin_at,
                end_at=r.end_at,
                policy=r.policy,
                messages=r.messages or 0,
            )
            for r in reports.reports(db)
        ],
    )


def unknown_sources(workspace: Workspace) -> list[models.Source]:
    """Sources nobody has named whose mail fails: somebody sends in our name."""
    return [s for s in receivers(workspace).sources if not s.name and s.aligned < s.messages]
