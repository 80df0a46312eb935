"""The records a sending domain needs, one by one: what is expected, found, meant, and the line to publish."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from openmeadow.core.authentication import dkim_record, dmarc, hosts, spf
from openmeadow.core.authentication.dkim import record_text
from openmeadow.core.authentication.findings import (
    FAIL,
    PASS,
    UNFOUND,
    UNKNOWN,
    WARNING,
    RecordFinding,
    overall,
    txt_line,
)
from openmeadow.core.authentication.questions import Asking, Question

NEAR_LIMIT = 8


@dataclass(frozen=True)
class Key:
    """A selector and the ``p=`` value it must answer with; ``public`` is "" where the key is not ours to know."""

    selector: str
    public: str = ""


@dataclass(frozen=True)
class SenderFacts:
    """What is to be proved about a domain. ``token`` and ``keys`` are empty for a domain that is not a sender here."""

    domain: str
    token: str = ""
    keys: tuple[Key, ...] = ()
    relay_ips: tuple[str, ...] = ()
    return_domain: str = ""
    tracking_host: str = ""
    lists: tuple[str, ...] = ()
    intake: str = ""


@dataclass(frozen=True)
class SpfSeen:
    """The SPF of a domain for all relay addresses: the worst result, lookups, their tree, advice."""

    result: str
    lookups: int
    most: int
    steps: tuple[spf.Step, ...]
    costs: tuple[spf.Cost, ...]
    advice: str


def _advice(record: str, most: int, costs: tuple[spf.Cost, ...]) -> str:
    if most <= NEAR_LIMIT:
        return ""
    dear = max(costs, key=lambda c: c.lookups)
    limit = spf.MOST_LOOKUPS
    over = f"over the limit of {limit}" if most > limit else f"near the limit of {limit}"
    return (
        f"Mail from other servers needs up to {most} lookups, {over}; {dear.term} uses {dear.lookups} of "
        "them. Remove it if no service sends through it, or list its networks."
    )


def sender_policy(f: SenderFacts) -> Asking[tuple[RecordFinding, SpfSeen]]:
    """SPF of the return path for every address of the relay; without addresses, the record by itself."""
    domain = f.return_domain or f.domain
    ips = f.relay_ips
    terms = " ".join(f"ip{'6' if ':' in ip else '4'}:{ip}" for ip in ips)
    expected = f"a record at {domain} that allows {', '.join(ips) or 'your relay'}"
    fix = txt_line(domain, f"v=spf1 {terms} -all" if ips else "v=spf1 -all")
    results = []
    for ip in ips or ("192.0.2.1",):
        results.append((ip, (yield from spf.check(ip, domain))))
    costs = yield from spf.cost(domain)
    most = sum(c.lookups for c in costs)
    order = ("permerror", "none", "fail", "softfail", "neutral", "temperror", "pass")
    worst = min((r for _, r in results), key=lambda r: order.index(r.result))
    text = (yield Question(domain, "TXT")).values
    record = next((v for v in text if v.lower().startswith("v=spf1")), "")
    advice = _advice(record, most, costs)
    seen = SpfSeen(worst.result, max(r.lookups for _, r in results), most, worst.steps, costs, advice)
    found = "; ".join(f"{ip}: {r.result}, {r.lookups} of {spf.MOST_LOOKUPS} lookups" for ip, r in results)
    found = found if ips else (record or "no record")
    words = record.lower().split()
    if worst.result == "temperror":
        return RecordFinding("SPF", UNKNOWN, expected, found, UNFOUND, fix), seen
    good = worst.result == "pass" if ips else worst.result not in ("none", "permerror")
    if not good:
        meaning = f"{worst.explanation} Receivers will not trust the return path."
        return RecordFinding("SPF", FAIL, expected, found, meaning, fix), seen
    for wrong, meaning in (
        ("+all" in words or "all" in words, "It allows any server to send as you. End it with -all."),
        (any(w.lstrip("+-~?").startswith("ptr") for w in words), "It uses ptr, which RFC 7208 discourages."),
        (bool(advice), advice),
        (
            not any(w.lstrip("+-~?") == "all" or w.startswith("redirect=") for w in words),
            "It has no default. End it with -all.",
        ),
    ):
        if wrong:
            return RecordFinding("SPF", WARNING, expected, found, meaning, fix), seen
    meaning = "Your relay is allowed to send." if ips else "The record is valid; no relay address was given."
    return RecordFinding("SPF", PASS, expected, found, meaning), seen


def signing_key(f: SenderFacts, key: Key) -> Asking[RecordFinding]:
    """The record at one selector."""
    record, name = f"DKIM {key.selector}", f"{key.selector}._domainkey.{f.domain}"
    expected = record_text(key.public) if key.public else "a key that verifies signatures"
    fix = txt_line(name, expected) if key.public else ""
    answer = yield Question(name, "TXT")
    if answer.status == "unknown":
        return RecordFinding(record, UNKNOWN, expected, "no reply", UNFOUND, fix)
    if not answer.values:
        return RecordFinding(
            record, FAIL, expected, f"no TXT at {name}", "Signatures cannot be verified. Publish the record.", fix
        )
    if len(answer.values) > 1:
        return RecordFinding(
            record, FAIL, expected, f"{len(answer.values)} TXT records at {name}", "Keep one of them.", fix
        )
    found = dkim_record.read(answer.values[0])
    said = f"selector {key.selector}"
    other = key.public and found.public and found.public != key.public
    if found.problem or other:
        what = dkim_record.difference(found.public, key.public) if other else found.problem
        return RecordFinding(record, FAIL, expected, f"{said}: {what}", "DKIM fails. Publish the record.", fix)
    if found.advice:
        return RecordFinding(
            record, WARNING, expected, f"{said}, {found.words}, {found.advice}", "Passes; can be improved.", fix
        )
    return RecordFinding(
        record, PASS, expected, f"{said}, {found.words}", "Signatures verify and are aligned with the From domain."
    )


def no_key(f: SenderFacts) -> RecordFinding:
    """The finding of a domain that has no DKIM key yet."""
    return RecordFinding(
        "DKIM",
        FAIL,
        "a key of this workspace",
        "no key yet",
        "Mail from this domain cannot be signed. Create a key, then publish it.",
    )


def policy(f: SenderFacts) -> Asking[RecordFinding]:
    """DMARC, at the domain or at its organisational domain; outside receivers of reports must agree."""
    expected = f"v=DMARC1; p=none; rua=mailto:dmarc@{f.domain}"
    fix = txt_line(f"_dmarc.{f.domain}", expected)
    seen = yield from dmarc.discover(f.domain)

    def finding(state: str, found: str, meaning: str) -> RecordFinding:
        return RecordFinding("DMARC", state, expected, found, meaning, "" if state == PASS else fix)

    if seen.status == "unknown":
        return finding(UNKNOWN, "no reply", UNFOUND)
    if seen.status == "none":
        return finding(
            FAIL, f"no record at {seen.at}", "Large providers reject bulk mail without one. Publish the record."
        )
    if seen.status == "several":
        return finding(FAIL, seen.text, "With several records none counts. Keep one.")
    p = seen.policy
    if p is None:
        return finding(FAIL, seen.text, "It has no valid policy (p=none, quarantine or reject). Publish the record.")
    if p.mistakes:
        return finding(WARNING, seen.text, f"{'; '.join(p.mistakes)}. {dmarc.next_step(p, f.domain)}")
    if not p.rua:
        return finding(WARNING, seen.text, "You receive no reports (rua is missing). Publish the record.")
    silent, unsure = yield from dmarc.disagreeing(p, seen.at)
    if silent:
        names = " and ".join(f'{name} IN TXT "v=DMARC1"' for a, name in dmarc.strangers(p, seen.at) if a in silent)
        return finding(
            WARNING,
            seen.text,
            f"{', '.join(silent)} belongs to another organisation that has not agreed to receive your reports: {names}.",
        )
    tail = " One report address could not be checked." if unsure else ""
    return finding(PASS, seen.text, dmarc.next_step(p, f.domain) + tail)


@dataclass(frozen=True)
class Looked:
    """A whole look at a domain."""

    domain: str
    state: str
    records: list[RecordFinding]
    spf: SpfSeen


def look(f: SenderFacts, more: Callable[[], list[RecordFinding]] = list) -> Asking[Looked]:
    """Everything, record by record. ``more`` adds what no DNS question answers (TLS, a message that went round)."""
    out: list[RecordFinding] = []
    if f.token:
        out.append((yield from hosts.ownership(f.domain, f.token)))
    finding, seen = yield from sender_policy(f)
    out.append(finding)
    for key in f.keys:
        out.append((yield from signing_key(f, key)))
    if f.token and not f.keys:
        out.append(no_key(f))
    out.append((yield from policy(f)))
    if f.return_domain:
        out.append((yield from hosts.return_path(f.domain, f.return_domain, f.intake)))
    for ip in f.relay_ips:
        out.append((yield from hosts.reverse_dns(ip, f.domain)))
    if f.tracking_host:
        out.append((yield from hosts.tracking_host(f.tracking_host, f.domain)))
    out += yield from hosts.every_list(f.relay_ips, f.lists)
    out += more()
    out += yield from hosts.noted(f.domain)
    return Looked(f.domain, overall(out), out, seen)
