"""DMARC (RFC 7489): the policy of a domain, alignment, who may receive its reports, the path to reject."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import cache

from publicsuffixlist import PublicSuffixList

from openmeadow.core.authentication.questions import Asking, Question

POLICIES = ("none", "quarantine", "reject")
_TAG_NAME, _DMARC = re.compile(r"[A-Za-z][A-Za-z0-9_]*"), re.compile(r"v\s*=\s*DMARC1\s*(;|\Z)")
_MAILTO = re.compile(r"mailto:([^!,\s@]+@([^!,\s@]+))(?:![0-9]{1,18}[kmgt]?)?\Z", re.I)
SUCCESSOR = {"np": "policy for names that do not exist", "psd": "whether this is a public suffix", "t": "test mode"}


@cache
def _suffixes() -> PublicSuffixList:
    return PublicSuffixList()


def organisational_domain(name: str) -> str:
    """3.2: the label below the public suffix; a name that is itself a suffix stands for itself."""
    clean = name.strip().rstrip(".").lower()
    return str(_suffixes().privatesuffix(clean) or clean)


def aligned(one: str, other: str, *, strict: bool = False) -> bool:
    """3.1: the same name, or for the relaxed way the same organisational domain."""
    a, b = (x.strip().rstrip(".").lower() for x in (one, other))
    return a == b if strict else organisational_domain(a) == organisational_domain(b)


@dataclass(frozen=True)
class Policy:
    """``mistakes`` are sentences about tags that cannot be used; their defaults stand."""

    text: str
    p: str
    sp: str
    pct: int = 100
    strict_dkim: bool = False
    strict_spf: bool = False
    rua: tuple[str, ...] = ()
    successor: dict[str, str] = field(default_factory=dict)
    mistakes: tuple[str, ...] = ()


def is_dmarc(text: str) -> bool:
    """Whether a TXT record is a DMARC record (RFC 7489)."""
    return _DMARC.match(text) is not None


def read(text: str) -> Policy | None:
    """A record's tags (6.3); None when it is no DMARC record at all or has no usable policy and no ``rua``."""
    if not is_dmarc(text):
        return None
    tags: dict[str, str] = {}
    mistakes = []
    for part in text.split(";")[1:]:
        if not part.strip():
            continue
        name, equals, value = part.partition("=")
        if not equals or not _TAG_NAME.fullmatch(name.strip()):
            mistakes.append(f"“{part.strip()[:40]}” is not a tag")
            continue
        tags.setdefault(name.strip().lower(), value.strip())
    rua = []
    for uri in filter(None, (u.strip() for u in tags.get("rua", "").split(","))):
        found = _MAILTO.match(uri)
        if found:
            rua.append(found.group(1).lower())
        else:
            mistakes.append(f"“{uri[:60]}” is not a report address; write it as mailto:…")
    p = tags.get("p", "").lower()
    if p not in POLICIES:
        if not rua:
            return None
        mistakes.append(f"“p={p}” is not a policy, so the policy is none" if p else "p is missing, so the policy is none")
        p = "none"
    sp = tags.get("sp", p).lower()
    if sp not in POLICIES:
        mistakes.append(f"“sp={sp}” is not a policy, so {p} applies")
        sp = p
    try:
        pct = int(tags.get("pct", "100"))
    except ValueError:
        pct = -1
    if not 0 <= pct <= 100:
        mistakes.append("pct is a whole number from 0 to 100")
        pct = 100
    for tag in ("adkim", "aspf"):
        if tags.get(tag, "r").lower() not in ("r", "s"):
            mistakes.append(f"{tag} is r or s")
    return Policy(
        text,
        p,
        sp,
        pct,
        tags.get("adkim", "r").lower() == "s",
        tags.get("aspf", "r").lower() == "s",
        tuple(rua),
        {k: tags[k] for k in SUCCESSOR if k in tags},
        tuple(mistakes),
    )


@dataclass(frozen=True)
class Discovered:
    """``status``: found, none, several, unreadable or unknown. ``at`` is where the record stands."""

    status: str
    at: str
    policy: Policy | None = None
    text: str = ""


def discover(domain: str) -> Asking[Discovered]:
    """6.6.3: at the domain, then at its organisational domain."""
    name = domain.strip().rstrip(".").lower()
    places = list(dict.fromkeys((name, organisational_domain(name))))
    at = f"_dmarc.{name}"
    for place in places:
        at = f"_dmarc.{place}"
        answer = yield Question(at, "TXT")
        if answer.status == "unknown":
            return Discovered("unknown", at)
        records = [v for v in answer.values if is_dmarc(v)]
        if len(records) > 1:
            return Discovered("several", at, None, f"{len(records)} records at {at}")
        if records:
            policy = read(records[0])
            return Discovered("found" if policy else "unreadable", at, policy, records[0])
    return Discovered("none", f"_dmarc.{name}")


def strangers(policy: Policy, at: str) -> list[tuple[str, str]]:
    """Receivers of reports outside the organisation: (address, the name at which their host must agree) (7.1)."""
    own = at.removeprefix("_dmarc.")
    return [
        (address, f"{own}._report._dmarc.{address.rpartition('@')[2]}")
        for address in policy.rua
        if not aligned(address.rpartition("@")[2], own)
    ]


def disagreeing(policy: Policy, at: str) -> Asking[tuple[list[str], bool]]:
    """Outside receivers that do not agree to get this domain's reports; and whether some could not be asked."""
    silent, unknown = [], False
    for address, name in strangers(policy, at):
        answer = yield Question(name, "TXT")
        if answer.status == "unknown":
            unknown = True
        elif not any(is_dmarc(v) for v in answer.values):
            silent.append(address)
    return silent, unknown


def next_step(policy: Policy, domain: str) -> str:
    """The path from none to reject, one step at a time."""
    weak = f" Subdomains are treated as sp={policy.sp}." if policy.sp != policy.p else ""
    if policy.p == "none":
        step = "Monitoring only. When reports show your mail aligned for some weeks, move to p=quarantine."
    elif policy.p == "quarantine" and policy.pct < 100:
        step = f"{policy.pct}% of failing mail goes to spam. Few receivers heed pct: remove it, then move to p=reject."
    elif policy.p == "quarantine":
        step = "Failing mail goes to spam. When the reports stay clean, move to p=reject."
    else:
        step = "Failing mail is rejected: the strictest policy."
    return step + weak


def risk(policy: Policy, messages: int, failing: dict[str, int], days: int) -> str:
    """What receivers' reports say a stricter policy would hit. ``messages`` were reported in ``days``; ``failing`` is
    what was not aligned, by whose it is: "ours", "known" (named, not ours) and "unknown"."""
    if not messages:
        return "No reports yet; the effect of a stricter policy is unknown."
    hit = sum(failing.values())
    said = f"{messages:,} messages were reported in {days} days, {100 * (messages - hit) / messages:.1f}% aligned."
    if not hit:
        return f"{said} None would be affected."
    words = {"ours": "from your own sources", "known": "from known sources", "unknown": "from unknown sources"}
    whose = ", ".join(f"{n:,} {words[k]}" for k, n in failing.items() if n)
    if policy.p == "reject":
        return f"{said} Rejected or unclear: {whose}."
    tail = " Fix your own first." if failing.get("ours") else ""
    return f"{said} A stricter policy would affect {hit:,}: {whose}.{tail}"
