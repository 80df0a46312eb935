"""SPF by RFC 7208 as an object that asks: the common mechanisms, with the limits on look-ups.

Macros and ``exp`` are not expanded here; a term that needs them ends in permerror.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Generator
from dataclasses import dataclass

from openmeadow.core.authentication.questions import Asking, Found, Question

MOST_LOOKUPS = 10  # RFC 7208 4.6.4
MOST_VOID = 2
_RESULT = {"+": "pass", "-": "fail", "~": "softfail", "?": "neutral"}


@dataclass(frozen=True)
class SpfResult:
    """``result`` as in RFC 7208 2.6; ``lookups`` counts terms that caused queries; ``explanation`` one sentence."""

    result: str
    lookups: int
    explanation: str
    matched: str = ""


class _End(Exception):
    def __init__(self, result: str, why: str) -> None:
        super().__init__(why)
        self.result = result


@dataclass
class _Spf:
    ip: ipaddress.IPv4Address | ipaddress.IPv6Address
    lookups: int = 0
    void: int = 0

    def _count(self) -> None:
        self.lookups += 1
        if self.lookups > MOST_LOOKUPS:
            raise _End("permerror", "the record needs more than 10 look-ups")

    def _ask(self, name: str, kind: str) -> Generator[Question, Found, tuple[str, ...]]:
        found = yield Question(name, kind)
        if found.status == "unknown":
            raise _End("temperror", f"{name} could not be looked up")
        if found.status == "none":
            self.void += 1
            if self.void > MOST_VOID:
                raise _End("permerror", "more than 2 look-ups found nothing")
        return found.values

    def _hosts(self, name: str) -> Generator[Question, Found, bool]:
        values = yield from self._ask(name, "A" if self.ip.version == 4 else "AAAA")
        return str(self.ip) in values

    def _match(self, name: str, value: str, domain: str) -> Generator[Question, Found, bool]:
        target, _, _prefix = value.partition("/")
        if "%" in value:
            raise _End("permerror", f"“{name}:{value}” uses a macro that is not understood")
        if name == "all":
            return True
        if name in ("ip4", "ip6"):
            try:
                network = ipaddress.ip_network(value, strict=False)
            except ValueError:
                raise _End("permerror", f"“{value}” is not a network") from None
            return network.version == self.ip.version and self.ip in network
        self._count()
        if name == "include":
            inner = yield from self._evaluate(target)
            if inner[0] == "none":
                raise _End("permerror", f"{target} has no SPF record to include")
            return inner[0] == "pass"
        if name == "exists":
            return bool((yield from self._ask(target, "A")))
        target = target or domain
        if name == "a":
            return (yield from self._hosts(target))
        if name == "mx":
            hosts = yield from self._ask(target, "MX")
            if len(hosts) > 10:
                raise _End("permerror", f"{target} has more than 10 mail hosts")
            for host in hosts:
                if (yield from self._hosts(host)):
                    return True
            return False
        if name == "ptr":
            return False
        raise _End("permerror", f"“{name}” is no SPF term")

    def _evaluate(self, domain: str) -> Generator[Question, Found, tuple[str, str]]:
        found = yield Question(domain, "TXT")
        if found.status == "unknown":
            raise _End("temperror", f"{domain} could not be looked up")
        records = [v for v in found.values if v.lower() == "v=spf1" or v.lower().startswith("v=spf1 ")]
        if not records:
            return "none", ""
        if len(records) > 1:
            raise _End("permerror", f"{domain} publishes more than one SPF record")
        redirect = ""
        for term in records[0].split()[1:]:
            if "=" in term and term.partition("=")[0].isalpha() and ":" not in term.partition("=")[0]:
                if term.lower().startswith("redirect="):
                    redirect = term.partition("=")[2]
                continue
            sign = term[0] if term[0] in _RESULT else "+"
            bare = term.lstrip("+-~?")
            cut = min((i for i in (bare.find(":"), bare.find("/")) if i >= 0), default=len(bare))
            value = bare[cut + 1 :] if bare[cut : cut + 1] == ":" else bare[cut:]
            if (yield from self._match(bare[:cut].lower(), value, domain)):
                return _RESULT[sign], term
        if redirect:
            self._count()
            result, term = yield from self._evaluate(redirect)
            if result == "none":
                raise _End("permerror", f"{redirect} has no SPF record to go to")
            return result, term
        return "neutral", ""


def check(ip: str, domain: str) -> Asking[SpfResult]:
    """Does ``domain`` allow ``ip`` to send its mail?"""
    state = _Spf(ipaddress.ip_address(ip))
    try:
        result, term = yield from state._evaluate(domain)
    except _End as e:
        return SpfResult(e.result, state.lookups, f"The SPF record of {domain} gives {e.result}: {e}.")
    words = {
        "none": f"{domain} publishes no SPF record.",
        "pass": f"{domain} allows {ip} by {term}.",
        "neutral": f"{domain} says nothing about {ip}.",
    }
    return SpfResult(result, state.lookups, words.get(result, f"{domain} does not allow {ip} ({term})."), term)
