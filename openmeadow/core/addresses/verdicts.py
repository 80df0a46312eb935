"""Address verdicts: undeliverable only on proof, risky on signs, deliverable, unknown; each with its reasons."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources

from disposable_email_domains import blocklist

from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.authentication.questions import Asking, Question
from openmeadow.core.reports.bounces import bounce_class

VERDICTS = ("deliverable", "risky", "undeliverable", "unknown")
RESERVED = ("test", "example", "invalid", "localhost", "example.com", "example.net", "example.org")  # RFC 2606, 6761


@dataclass(frozen=True)
class Verdict:
    """``suggestion`` is a whole address that was probably meant; never changed without being said."""

    verdict: str
    reasons: tuple[str, ...] = ()
    suggestion: str | None = None


@dataclass(frozen=True)
class DomainAnswer:
    """Whether a domain takes mail, by which hosts, and why not; None where nobody asked or no answer came."""

    takes_mail: bool | None
    hosts: tuple[str, ...] = ()
    why: str = ""


NOT_ASKED = DomainAnswer(None, (), "its domain was not checked")
MAILBOX = ("yes", "no", "full", "accepts everything", "greylisted", "no clear response")


def domain_lookup(name: str) -> Asking[DomainAnswer]:
    """MX, else the domain's own address (RFC 5321 5.1); a null MX says no (RFC 7505)."""
    answer = yield Question(name, "MX")
    silent = DomainAnswer(None, (), f"{name} could not be looked up")
    if answer.status == "unknown":
        return silent
    hosts = tuple(h for h in answer.values if h)
    if answer.values and not hosts:
        return DomainAnswer(False, (), f"{name} does not accept mail (null MX)")
    for host in hosts or (name,):
        for kind in ("A", "AAAA"):
            address = yield Question(host, kind)
            if address.status == "unknown":
                return silent
            if address.values:
                return DomainAnswer(True, hosts or (name,))
    return DomainAnswer(
        False, hosts, f"the mail servers of {name} do not exist" if hosts else f"{name} does not accept mail"
    )


def mailbox_of(code: int, text: str) -> str:
    """What a reply to RCPT says of the mailbox: one of MAILBOX. Policy and trouble say nothing of it."""
    if code in (250, 251):
        return "yes"
    kind = bounce_class(str(code), text)
    if kind == "hard":
        return "no"
    if re.search(r"\b[45]\.2\.2\b|full|over quota", text, re.I) or code == 552:
        return "full"
    return "greylisted" if 400 <= code < 500 else "no clear response"


def _one_slip(a: str, b: str) -> bool:
    """True when one letter was left out, put in, changed, or two neighbours were swapped."""
    if a == b or abs(len(a) - len(b)) > 1:
        return False
    i = next((k for k, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    if len(a) == len(b):
        return a[i + 1 :] == b[i + 1 :] or (a[i + 1 : i + 2] == b[i : i + 1] and a[i : i + 1] + a[i + 2 :] == b[i + 1 :])
    short, long = sorted((a, b), key=len)
    return short[i:] == long[i + 1 :]


@cache
def _roles() -> frozenset[str]:
    return frozenset((resources.files("openmeadow.core.data") / "roles.txt").read_text().split())


@cache
def _disposable() -> frozenset[str]:
    own = (resources.files("openmeadow.core.data") / "disposable.txt").read_text().split()
    return frozenset(blocklist) | frozenset(own)


def is_disposable(domain: str) -> bool:
    """Whether a domain gives addresses for a few minutes."""
    return domain in _disposable()


def is_reserved(domain: str) -> bool:
    """Whether a domain is reserved (RFC 2606, 6761), where nobody has a mailbox."""
    return any(domain == r or domain.endswith("." + r) for r in RESERVED)


def slip_of(domain: str, well_known: Sequence[str]) -> str | None:
    """The known domain that this one is one slip away from, the most frequent first; None if it is known itself."""
    if domain in well_known:
        return None
    return next((k for k in well_known if _one_slip(domain, k)), None)


def judge(
    address: str,
    well_known: Sequence[str] = (),
    bounced: Collection[str] = (),
    domain: DomainAnswer = NOT_ASKED,
    mailbox: str = "",
) -> Verdict:
    """One address. ``well_known`` are domains by falling frequency; ``bounced`` keys that bounced for good; ``domain``
    what the DNS said; ``mailbox`` one of MAILBOX, "" where no mail host was asked."""
    clean = address.strip()
    if not clean:
        return Verdict("undeliverable", ("there is no address",))
    if (problem := syntax_problem(clean)) is not None:
        return Verdict("undeliverable", (problem,))
    key = address_key(clean)
    local, _, name = key.rpartition("@")
    slip = slip_of(name, well_known)
    suggestion = f"{clean.rpartition('@')[0]}@{slip}" if slip else None
    proofs = [
        why
        for why in (
            "it hard bounced" if key in bounced else "",
            domain.why if domain.takes_mail is False else "",
            "the mailbox does not exist" if mailbox == "no" else "",
        )
        if why
    ]
    if proofs:
        return Verdict("undeliverable", tuple(proofs), suggestion)
    signs = []
    if slip:
        signs.append(f"possible typo of {slip}")
    if is_disposable(name):
        signs.append(f"{name} is a disposable domain")
    if local in _roles():
        signs.append(f"{local}@ is a role address")
    if local.startswith('"'):
        signs.append("its first part is quoted, which many servers reject")
    if mailbox in ("full", "accepts everything"):
        signs.append({"full": "its mailbox is full", "accepts everything": f"{name} is a catch-all domain"}[mailbox])
    if signs:
        return Verdict("risky", tuple(signs), suggestion)
    if domain.takes_mail is None and not is_reserved(name):
        return Verdict("unknown", (domain.why,))
    if mailbox in ("greylisted", "no clear response"):
        return Verdict("unknown", (f"mail server: {mailbox}",))
    return Verdict("deliverable", ("the mail server accepts mail for it",) if mailbox == "yes" else ())
