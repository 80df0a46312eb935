"""Questions of the core put to a resolver (dnspython)."""

from __future__ import annotations

from collections.abc import Generator
from typing import TypeVar

import dns.exception
import dns.name
import dns.resolver
import dns.reversename

from openmeadow.core.authentication.questions import Found, Question
from openmeadow.core.errors import MeadowError

T = TypeVar("T")
LIFETIME = 5.0


class Resolver:
    """``where`` is HOST:PORT, or empty for the machine's own resolver. Answers are kept for this object's life."""

    def __init__(self, where: str = "") -> None:
        self._resolver = dns.resolver.Resolver(configure=not where)
        if where:
            host, _, port = where.rpartition(":")
            self._resolver.nameservers = [host or where]
            self._resolver.port = int(port) if host else 53
        self._resolver.lifetime = LIFETIME
        self._kept: dict[Question, Found] = {}

    def ask(self, q: Question) -> Found:
        """The answer to a question, from memory where it was asked before."""
        if q not in self._kept:
            self._kept[q] = self._look(q)
        return self._kept[q]

    def address(self, host: str) -> str:
        """An address of a host; the name itself where none is found."""
        for kind in ("A", "AAAA"):
            if values := self.ask(Question(host, kind)).values:
                return values[0]
        return host

    def _look(self, q: Question) -> Found:
        try:
            name = dns.reversename.from_address(q.name) if q.kind == "PTR" else _name(q.name)
            answer = self._resolver.resolve(name, q.kind, search=False)
        except (dns.resolver.NXDOMAIN, dns.resolver.NoAnswer):
            return Found("none")
        except (dns.exception.DNSException, OSError, ValueError):
            return Found("unknown")
        if q.kind == "TXT":
            return Found("found", tuple(b"".join(r.strings).decode("utf-8", "replace") for r in answer))
        if q.kind == "MX":
            ordered = sorted(answer, key=lambda r: int(r.preference))
            return Found("found", tuple(str(r.exchange).rstrip(".") for r in ordered))
        return Found("found", tuple(str(r).rstrip(".") for r in answer))


def _name(text: str) -> dns.name.Name:
    """A name from its labels as they stand: what looks like an escape is none; other letters become A-labels."""
    if not text.isascii():
        return dns.name.from_text(text)
    return dns.name.Name([*(label.encode() for label in text.removesuffix(".").split(".")), b""])


def answer_all(asking: Generator[Question, Found, T], resolver: Resolver) -> T:
    """Drive a decision object to its end."""
    try:
        question = next(asking)
        while True:
            question = asking.send(resolver.ask(question))
    except StopIteration as end:
        return end.value  # type: ignore[no-any-return]


def publish(where: str, lines: list[str]) -> None:
    """Send zone lines (``name. ttl IN TXT "…"``) to the zone's name server as a dynamic update (RFC 2136)."""
    import dns.query
    import dns.rcode
    import dns.update

    host, _, port = where.rpartition(":")
    for line in lines:
        name, ttl, _, kind, value = line.split(" ", 4)
        zone = dns.name.from_text(name)
        while len(zone) > 2:
            zone = zone.parent()
            update = dns.update.UpdateMessage(zone)
            update.replace(dns.name.from_text(name), int(ttl), kind, value)
            try:
                answer = dns.query.tcp(update, host, timeout=LIFETIME, port=int(port))
            except (dns.exception.DNSException, OSError) as e:
                raise MeadowError("The DNS server rejected the update. Publish the record manually.") from e
            if answer.rcode() == dns.rcode.NOERROR:
                break
        else:
            raise MeadowError(f"The DNS server accepts no updates for {name} Publish the record manually.")
