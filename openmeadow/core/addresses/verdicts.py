"""Address verdicts: bad only on proof, risky on signs, good, unknown; each with its reasons (5-computation)."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources

from disposable_email_domains import blocklist

from openmeadow.core.addresses.syntax import address_key, syntax_problem

VERDICTS = ("good", "risky", "bad", "unknown")
RESERVED = ("test", "example", "invalid", "localhost", "example.com", "example.net", "example.org")  # RFC 2606, 6761


@dataclass(frozen=True)
class Verdict:
    """``suggestion`` is a whole address that was probably meant; never a silent change."""

    verdict: str
    reasons: tuple[str, ...] = ()
    suggestion: str | None = None


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
    return frozenset((resources.files("openmeadow.data") / "roles.txt").read_text().split())


@cache
def _disposable() -> frozenset[str]:
    return frozenset(blocklist)


def is_reserved(domain: str) -> bool:
    return any(domain == r or domain.endswith("." + r) for r in RESERVED)


def slip_of(domain: str, well_known: Sequence[str]) -> str | None:
    """The known domain that this one is one slip away from, the most frequent first; None if it is known itself."""
    if domain in well_known:
        return None
    return next((k for k in well_known if _one_slip(domain, k)), None)


def judge(
    address: str, well_known: Sequence[str] = (), bounced: Collection[str] = (), domain_takes_mail: bool | None = None
) -> Verdict:
    """One address. ``well_known`` are domains by falling frequency; ``bounced`` keys that bounced for good;
    ``domain_takes_mail`` is None where nobody asked or no answer came."""
    clean = address.strip()
    if (problem := syntax_problem(clean)) is not None:
        return Verdict("bad", (problem,))
    key = address_key(clean)
    local, _, domain = key.rpartition("@")
    slip = slip_of(domain, well_known)
    suggestion = f"{clean.rpartition('@')[0]}@{slip}" if slip else None
    if key in bounced:
        return Verdict("bad", ("it bounced for good",), suggestion)
    if domain_takes_mail is False:
        return Verdict("bad", (f"{domain} takes no mail",), suggestion)
    signs = []
    if slip:
        signs.append(f"{domain} looks like a slip for {slip}")
    if domain in _disposable():
        signs.append(f"{domain} gives out throw-away addresses")
    if local in _roles():
        signs.append(f"{local}@ is read by a role, not by a person")
    if signs:
        return Verdict("risky", tuple(signs), suggestion)
    if domain_takes_mail is None and not is_reserved(domain):
        return Verdict("unknown", ("its domain was not asked",))
    return Verdict("good")
