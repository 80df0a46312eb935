"""SPF by RFC 7208 as an object that asks: it yields one question after the other and ends in a result.

The look-ups are drawn one by one as steps: which term, at which name, how many look-ups by then.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Generator
from dataclasses import dataclass, field

from openmeadow.core.authentication.questions import Asking, Found, Question
from openmeadow.core.authentication.spf_terms import (
    ASKING,
    Address,
    Malformed,
    Record,
    Term,
    check_macros,
    expand,
    is_spf,
    needs_validated_name,
    read,
    shortened,
    valid_name,
)

MOST_LOOKUPS = 10  # 4.6.4
MOST_VOID = 2  # 4.6.4
MOST_MX = 10  # 4.6.4
MOST_PTR = 10  # 4.6.4


@dataclass(frozen=True)
class Step:
    """One term as it was looked at. ``count``: look-ups so far, this one among them; ``note``: what it gave."""

    depth: int
    domain: str
    term: str
    count: int
    note: str


@dataclass(frozen=True)
class SpfResult:
    """``result`` as in RFC 7208 2.6; ``lookups`` counts terms that caused queries; ``explanation`` is our own sentence,
    ``exp`` the domain's text for those it refuses."""

    result: str
    lookups: int
    explanation: str
    matched: str = ""
    exp: str = ""
    void: int = 0
    steps: tuple[Step, ...] = ()


class _End(Exception):
    def __init__(self, result: str, why: str) -> None:
        super().__init__(why)
        self.result = result


Match = Generator[Question, Found, bool]


@dataclass
class _Spf:
    ip: Address
    sender: str
    helo: str
    now: int
    receiver: str = "unknown"
    lookups: int = 0
    void: int = 0
    steps: list[Step] = field(default_factory=list)
    names: str | None = None  # %{p}, once it was worked out

    def count(self) -> None:
        self.lookups += 1
        if self.lookups > MOST_LOOKUPS:
            raise _End("permerror", f"the record needs more than {MOST_LOOKUPS} lookups")

    def ask(self, name: str, kind: str, *, voids: bool = True) -> Generator[Question, Found, tuple[str, ...]]:
        found = yield Question(name, kind)
        if found.status == "unknown":
            raise _End("temperror", f"{name} could not be looked up")
        if found.status == "none" and voids:
            self.void += 1
            if self.void > MOST_VOID:
                raise _End("permerror", f"more than {MOST_VOID} lookups found nothing")
        return found.values

    # macros

    def letter(self, domain: str) -> dict[str, str]:
        local, _, origin = self.sender.rpartition("@")
        six = self.ip.version == 6
        dotted = ".".join(self.ip.exploded.replace(":", "")) if six else str(self.ip)
        return {
            "s": self.sender,
            "l": local,
            "o": origin,
            "d": domain,
            "i": dotted,
            "p": self.names or "unknown",
            "h": self.helo,
            "c": str(self.ip),
            "r": self.receiver,
            "t": str(self.now),
            "v": "ip6" if six else "in-addr",
        }

    def filled(self, text: str, domain: str) -> Generator[Question, Found, str]:
        if self.names is None and needs_validated_name(text):
            self.names = yield from self.validated(domain)
        return expand(text, self.letter(domain).__getitem__)

    def target(self, spec: str, domain: str) -> Generator[Question, Found, str]:
        if not spec:
            return domain
        return shortened((yield from self.filled(spec, domain)))

    # names behind the address (5.5)

    def pointed(self) -> Generator[Question, Found, list[str]]:
        """The names the address points to that point back; errors find nothing (5.5)."""
        found = yield Question(str(self.ip), "PTR")
        out = []
        for name in found.values[:MOST_PTR]:
            back = yield Question(name, "A" if self.ip.version == 4 else "AAAA")
            if any(_same(self.ip, v) for v in back.values):
                out.append(name.removesuffix("."))
        return out

    def validated(self, domain: str) -> Generator[Question, Found, str]:
        """7.3, %{p}: the domain itself before its subdomains before any other."""
        names = yield from self.pointed()
        low, here = [n.lower() for n in names], domain.lower()
        for fits in (lambda n: n == here, lambda n: n.endswith("." + here), lambda _: True):
            for name, lowered in zip(names, low, strict=True):
                if fits(lowered):
                    return name
        return "unknown"

    # mechanisms (5)

    def _hosts(self, name: str, term: Term) -> Match:
        if not valid_name(name):
            return False
        values = yield from self.ask(name, "A" if self.ip.version == 4 else "AAAA")
        bits = term.cidr4 if self.ip.version == 4 else term.cidr6
        return any(_within(self.ip, v, bits) for v in values)

    def _mx(self, name: str, term: Term) -> Match:
        if not valid_name(name):
            return False
        hosts = yield from self.ask(name, "MX")
        if len(hosts) > MOST_MX:
            raise _End("permerror", f"{name} has more than {MOST_MX} mail servers")
        for host in hosts:
            if host and (yield from self._hosts(host, term)):
                return True
        return False

    def _ptr(self, name: str) -> Match:
        names = yield from self.pointed()
        here = name.lower().removesuffix(".")
        return any(n.lower() == here or n.lower().endswith("." + here) for n in names)

    def _include(self, name: str, depth: int) -> Match:
        inner, _, _ = yield from self.evaluate(name, depth + 1)
        if inner == "none":
            raise _End("permerror", f"{name} has no SPF record to include")
        return inner == "pass"

    def matches(self, term: Term, domain: str, depth: int) -> Match:
        if term.name == "all":
            return True
        if term.network is not None:
            return term.network.version == self.ip.version and self.ip in term.network
        self.count()
        name = yield from self.target(term.target, domain)
        here = len(self.steps)
        self.steps.append(Step(depth, domain, term.text, self.lookups, ""))
        if term.name == "include":
            hit = yield from self._include(name, depth)
        elif term.name == "a":
            hit = yield from self._hosts(name, term)
        elif term.name == "mx":
            hit = yield from self._mx(name, term)
        elif term.name == "ptr":
            hit = yield from self._ptr(name)
        else:
            hit = bool((yield from self.ask(name, "A"))) if valid_name(name) else False
        note = "matches" if hit else "does not match"
        self.steps[here] = Step(depth, domain, term.text, self.steps[here].count, note)
        return hit

    # records (4)

    def record(self, domain: str) -> Generator[Question, Found, Record | None]:
        if not valid_name(domain):
            return None
        found = yield Question(domain, "TXT")
        if found.status == "unknown":
            raise _End("temperror", f"{domain} could not be looked up")
        records = [v for v in found.values if is_spf(v)]
        if not records:
            return None
        if len(records) > 1:
            raise _End("permerror", f"{domain} publishes {len(records)} SPF records; only one is allowed")
        try:
            return read(records[0])
        except Malformed as e:
            raise _End("permerror", f"in the record of {domain}, {e}") from e

    def evaluate(self, domain: str, depth: int = 0) -> Generator[Question, Found, tuple[str, str, tuple[str, str]]]:
        """(result, the term that matched, (exp, its domain)). Ends at the first match (4.6.2)."""
        record = yield from self.record(domain)
        if record is None:
            return "none", "", ("", "")
        for term in record.terms:
            if (yield from self.matches(term, domain, depth)):
                return term.result, term.text, (record.exp or "", domain)
        if record.redirect is not None and not any(t.name == "all" for t in record.terms):
            self.count()
            name = yield from self.target(record.redirect, domain)
            self.steps.append(Step(depth, domain, f"redirect={record.redirect}", self.lookups, "redirect"))
            result, matched, exp = yield from self.evaluate(name, depth)
            if result == "none":
                raise _End("permerror", f"{name} has no SPF record to redirect to")
            return result, matched, exp
        return "neutral", "", ("", "")

    def explained(self, exp: str, domain: str) -> Generator[Question, Found, str]:
        """6.2: the domain's own words for a fail; "" when there are none that can be used."""
        if not exp:
            return ""
        name = yield from self.target(exp, domain)
        if not valid_name(name):
            return ""
        found = yield Question(name, "TXT")
        if len(found.values) != 1:
            return ""
        try:
            check_macros(found.values[0], explanation=True)
        except Malformed:
            return ""
        return (yield from self.filled(found.values[0], domain))


def _same(ip: Address, value: str) -> bool:
    return _within(ip, value, 32 if ip.version == 4 else 128)


def _within(ip: Address, value: str, bits: int) -> bool:
    try:
        network = ipaddress.ip_network(f"{value}/{bits}", strict=False)
    except ValueError:
        return False
    return network.version == ip.version and ip in network


def plain_address(ip: str) -> Address:
    """An IPv4 address mapped into IPv6 counts as IPv4 (5)."""
    address = ipaddress.ip_address(ip)
    mapped = getattr(address, "ipv4_mapped", None)
    return mapped if mapped is not None else address


def check(ip: str, domain: str, *, sender: str = "", helo: str = "", now: int = 0) -> Asking[SpfResult]:
    """Does ``domain`` allow ``ip`` to send its mail? ``sender`` defaults to postmaster at the domain (4.3)."""
    local, _, origin = sender.rpartition("@")
    full = f"{local or 'postmaster'}@{origin or domain}"
    state = _Spf(plain_address(ip), full, helo or domain, now)
    try:
        result, term, exp = yield from state.evaluate(domain)
        words = (yield from state.explained(*exp)) if result == "fail" else ""
    except _End as e:
        why = f"The SPF record of {domain} results in {e.result}: {e}."
        return SpfResult(e.result, min(state.lookups, MOST_LOOKUPS + 1), why, "", "", state.void, tuple(state.steps))
    said = {
        "none": f"{domain} publishes no SPF record.",
        "pass": f"{domain} allows {ip} by {term}.",
        "neutral": f"{domain} says nothing about {ip}." if not term else f"{domain} is neutral about {ip} ({term}).",
    }
    why = said.get(result, f"{domain} does not allow {ip} ({term}).")
    return SpfResult(result, state.lookups, why, term, words, state.void, tuple(state.steps))


def check_mail(ip: str, mail_from: str, helo: str, now: int = 0) -> Asking[SpfResult]:
    """check_host for a mail's envelope: its MAIL FROM, or the HELO name where that is empty (2.4)."""
    sender = mail_from.strip().removeprefix("<").removesuffix(">")
    domain = sender.rpartition("@")[2] if sender else helo
    return (yield from check(ip, domain.strip(), sender=sender or f"postmaster@{helo}", helo=helo, now=now))


@dataclass(frozen=True)
class Cost:
    """What a term costs in look-ups when it does not match; ``below`` are the terms of what it includes."""

    term: str
    domain: str
    lookups: int
    below: tuple[Cost, ...] = ()


def _cost(domain: str, seen: tuple[str, ...]) -> Generator[Question, Found, tuple[Cost, ...]]:
    found = yield Question(domain, "TXT")
    records = [v for v in found.values if is_spf(v)]
    if len(records) != 1 or domain.lower() in seen:
        return ()
    try:
        record = read(records[0])
    except Malformed:
        return ()
    out = []
    words = [(t.text, t.name, t.target) for t in record.terms]
    words += [(f"redirect={record.redirect}", "redirect", record.redirect)] if record.redirect is not None else []
    for text, name, target in words:
        if name not in ASKING:
            continue
        below: tuple[Cost, ...] = ()
        if name in ("include", "redirect") and "%" not in target and len(seen) < MOST_LOOKUPS:
            below = yield from _cost(target.removesuffix("."), (*seen, domain.lower()))
        out.append(Cost(text, target or domain, 1 + sum(c.lookups for c in below), below))
    return tuple(out)


def cost(domain: str) -> Asking[tuple[Cost, ...]]:
    """The look-up tree: what every term costs when mail comes from elsewhere and nothing matches."""
    return (yield from _cost(domain, ()))
