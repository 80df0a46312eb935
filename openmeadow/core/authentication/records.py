"""The records a sending domain needs, one by one: what is expected, found, meant, and the line to publish."""

from __future__ import annotations

import base64
from dataclasses import dataclass

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import load_der_public_key

from openmeadow.core.authentication import spf
from openmeadow.core.authentication.dkim import record_text
from openmeadow.core.authentication.questions import Asking, Question

HOLDS, MEND, BROKEN, UNKNOWN = "holds", "mend", "broken", "unknown"
TTL = 3600
UNFOUND = "The name servers did not answer in time; nothing is concluded, look again in a while."


@dataclass(frozen=True)
class RecordFinding:
    record: str
    state: str
    expected: str
    found: str
    meaning: str
    publish: str = ""


@dataclass(frozen=True)
class SenderFacts:
    """What is to be proved about a domain."""

    domain: str
    token: str
    selector: str
    public_key: str
    relay_ips: tuple[str, ...]
    return_domain: str


def zone_line(name: str, value: str) -> str:
    """A TXT line in RFC 1035 master format; strings of at most 255 octets."""
    pieces = " ".join(
        '"' + value[i : i + 255].replace("\\", "\\\\").replace('"', '\\"') + '"' for i in range(0, len(value), 255)
    )
    return f"{name}. {TTL} IN TXT {pieces}"


def ownership(f: SenderFacts) -> Asking[RecordFinding]:
    name, value = f"_meadow.{f.domain}", f"meadow={f.token}"
    line = zone_line(name, value)
    answer = yield Question(name, "TXT")
    if answer.status == "unknown":
        return RecordFinding("Ownership", UNKNOWN, value, "no answer", UNFOUND, line)
    if value in answer.values:
        return RecordFinding(
            "Ownership", HOLDS, value, f"TXT {name} carries your token", "You may send from this domain."
        )
    found = f"TXT {name} says {answer.values[0]}" if answer.values else f"no TXT at {name}"
    return RecordFinding(
        "Ownership", BROKEN, value, found, "It is not shown that this domain is yours. Publish the line.", line
    )


def sender_policy(f: SenderFacts) -> Asking[RecordFinding]:
    domain = f.return_domain
    terms = " ".join(f"ip{'6' if ':' in ip else '4'}:{ip}" for ip in f.relay_ips)
    expected = f"a record at {domain} that allows {', '.join(f.relay_ips) or 'your relay'}"
    line = zone_line(domain, f"v=spf1 {terms} -all")
    if not f.relay_ips:
        return RecordFinding(
            "SPF",
            UNKNOWN,
            expected,
            "",
            "The relay's addresses are not set; give them in the settings, so that SPF can be judged.",
            "",
        )
    worst, seen = None, []
    for ip in f.relay_ips:
        result = yield from spf.check(ip, domain)
        seen.append(f"{ip}: {result.result}, {result.lookups} of 10 look-ups")
        if result.result != "pass" and worst is None:
            worst = result
    found = "; ".join(seen)
    if worst is None:
        return RecordFinding("SPF", HOLDS, expected, found, "Your relay is allowed to send for the return path.")
    state = UNKNOWN if worst.result == "temperror" else BROKEN
    return RecordFinding(
        "SPF",
        state,
        expected,
        found,
        UNFOUND if state == UNKNOWN else f"{worst.explanation} Receivers will not believe the return path.",
        line,
    )


def signing_key(f: SenderFacts) -> Asking[RecordFinding]:
    if not f.selector:
        return RecordFinding(
            "DKIM",
            BROKEN,
            "a key of this workspace",
            "no key made yet",
            "Mail from this domain cannot be signed. Make a key, then publish it.",
        )
    name = f"{f.selector}._domainkey.{f.domain}"
    expected = record_text(f.public_key)
    line = zone_line(name, expected)
    answer = yield Question(name, "TXT")
    if answer.status == "unknown":
        return RecordFinding("DKIM", UNKNOWN, expected, "no answer", UNFOUND, line)
    if not answer.values:
        return RecordFinding(
            "DKIM", BROKEN, expected, f"no TXT at {name}", "Signatures cannot be verified. Publish the line.", line
        )
    tags = dict((k.strip(), v.strip()) for k, _, v in (t.partition("=") for t in answer.values[0].split(";")) if k)
    public = tags.get("p", "").replace(" ", "")
    if "p" in tags and not public:
        return RecordFinding(
            "DKIM",
            BROKEN,
            expected,
            f"selector {f.selector} is revoked (empty p=)",
            "Receivers treat every signature as bad. Publish the line.",
            line,
        )
    if public != f.public_key:
        return RecordFinding(
            "DKIM",
            BROKEN,
            expected,
            f"selector {f.selector} answers with another key",
            "Signatures made here do not verify. Publish the line.",
            line,
        )
    try:
        key = load_der_public_key(base64.b64decode(public))
        bits = key.key_size if isinstance(key, rsa.RSAPublicKey) else 0
    except ValueError:
        return RecordFinding("DKIM", BROKEN, expected, "the key cannot be read", "Publish the line again.", line)
    if "y" in tags.get("t", "").split(":"):
        return RecordFinding(
            "DKIM",
            MEND,
            expected,
            f"selector {f.selector}, RSA {bits}, in test mode (t=y)",
            "Receivers may ignore the signature while it says t=y.",
            line,
        )
    return RecordFinding(
        "DKIM",
        HOLDS,
        expected,
        f"selector {f.selector}, RSA {bits}, answers",
        "Signatures verify and are aligned with the From domain.",
    )


def policy(f: SenderFacts) -> Asking[RecordFinding]:
    """DMARC (RFC 7489), at the domain or at its parent."""
    expected = f"v=DMARC1; p=none; rua=mailto:dmarc@{f.domain}"
    name = f"_dmarc.{f.domain}"
    line = zone_line(name, expected)
    for at in (name, f"_dmarc.{f.domain.partition('.')[2]}"):
        answer = yield Question(at, "TXT")
        if answer.status == "unknown":
            return RecordFinding("DMARC", UNKNOWN, expected, "no answer", UNFOUND, line)
        records = [v for v in answer.values if v.lower().startswith("v=dmarc1")]
        if len(records) > 1:
            return RecordFinding(
                "DMARC",
                BROKEN,
                expected,
                f"{len(records)} records at {at}",
                "With more than one record, none counts. Keep one.",
                line,
            )
        if records:
            if "rua=" not in records[0].replace(" ", "").lower():
                return RecordFinding(
                    "DMARC", MEND, expected, records[0], "Receivers send you no reports. Publish the line.", line
                )
            return RecordFinding(
                "DMARC", HOLDS, expected, records[0], "Receivers know what to do with mail that is not yours, and report."
            )
        if at.count(".") < 3:
            break
    return RecordFinding(
        "DMARC",
        BROKEN,
        expected,
        f"no record at {name}",
        "Large providers refuse bulk mail without one. Publish the line.",
        line,
    )


ALL = (ownership, sender_policy, signing_key, policy)


def overall(findings: list[RecordFinding]) -> str:
    """The worst of the records' states; unknown before mend, since it is no proof."""
    states = {f.state for f in findings}
    return next((s for s in (BROKEN, UNKNOWN, MEND) if s in states), HOLDS)
