"""What stands around the mail records: return path, reverse DNS, tracking host, block lists, noted policies."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

from openmeadow.core.authentication.dmarc import aligned, organisational_domain
from openmeadow.core.authentication.findings import (
    BROKEN,
    HOLDS,
    MEND,
    UNFOUND,
    UNKNOWN,
    RecordFinding,
    line,
    reverse_name,
    txt_line,
)
from openmeadow.core.authentication.questions import Asking, Question

LISTED = ipaddress.ip_network("127.0.0.0/8")  # RFC 5782 2.1: what a block list answers with
TEST_LISTED, TEST_CLEAN = "127.0.0.2", "127.0.0.1"  # RFC 5782 5


def return_path(domain: str, return_domain: str, intake: str = "") -> Asking[RecordFinding]:
    """Bounces must come back: an MX (or address) of the return domain; aligned with the From domain."""
    expected = f"an MX of {return_domain} that leads to your intake"
    fix = line(return_domain, "MX", f"10 {intake or 'mail.' + organisational_domain(domain)}.")
    answer = yield Question(return_domain, "MX")
    if answer.status == "unknown":
        return RecordFinding("Return path", UNKNOWN, expected, "no answer", UNFOUND, fix)
    hosts = [h for h in answer.values if h]
    if answer.status == "found" and not hosts:
        return RecordFinding(
            "Return path", BROKEN, expected, "a null MX: it says it takes no mail", "Bounces cannot come back.", fix
        )
    if not hosts:
        return RecordFinding(
            "Return path",
            MEND,
            expected,
            f"no MX at {return_domain}",
            "Bounces that come after the hand-over are lost, unless the relay catches them.",
            fix,
        )
    for host in hosts:
        for kind in ("A", "AAAA"):
            address = yield Question(host, kind)
            if address.status == "unknown":
                return RecordFinding("Return path", UNKNOWN, expected, f"{host} gave no answer", UNFOUND, fix)
            if address.values:
                same = aligned(domain, return_domain)
                return RecordFinding(
                    "Return path",
                    HOLDS if same else MEND,
                    expected,
                    f"{host} ({address.values[0]})",
                    "Bounces come back, and the return path is aligned with the From domain."
                    if same
                    else "Bounces come back; the return path is of another organisation, so SPF does not count for DMARC.",
                    "" if same else fix,
                )
    return RecordFinding(
        "Return path", BROKEN, expected, f"{', '.join(hosts)} has no address", "Bounces cannot come back.", fix
    )


def reverse_dns(ip: str, domain: str) -> Asking[RecordFinding]:
    """The relay's name, and that it points back."""
    record, name = f"Reverse DNS of {ip}", reverse_name(ip)
    expected = f"a name for {ip} that leads back to it"
    fix = line(name, "PTR", f"mail.{domain}.")
    answer = yield Question(ip, "PTR")
    if answer.status == "unknown":
        return RecordFinding(record, UNKNOWN, expected, "no answer", UNFOUND, fix)
    if not answer.values:
        return RecordFinding(record, BROKEN, expected, "no name", "Large providers refuse mail from it.", fix)
    kind = "A" if ipaddress.ip_address(ip).version == 4 else "AAAA"
    unsure = False
    for host in answer.values:
        back = yield Question(host, kind)
        unsure |= back.status == "unknown"
        if any(ipaddress.ip_address(v) == ipaddress.ip_address(ip) for v in back.values):
            return RecordFinding(record, HOLDS, expected, host, "The relay's name leads back to its address.")
    host = answer.values[0]
    if unsure:
        return RecordFinding(record, UNKNOWN, expected, f"{host} gave no answer", UNFOUND, fix)
    return RecordFinding(
        record, BROKEN, expected, f"{host}, which does not lead back", "Receivers do not believe this name.", fix
    )


def tracking_host(host: str, domain: str) -> Asking[RecordFinding]:
    """The name that links and pictures lead to: it exists, and is of the same organisation."""
    expected = f"a name under {domain}"
    try:
        ipaddress.ip_address(host)
    except ValueError:
        pass
    else:
        return RecordFinding(
            "Tracking host",
            MEND,
            expected,
            f"the bare address {host}",
            "Links to an address look like fraud to filters; give the application a name under the sending domain.",
        )
    for kind in ("CNAME", "A", "AAAA"):
        answer = yield Question(host, kind)
        if answer.status == "unknown":
            return RecordFinding("Tracking host", UNKNOWN, expected, "no answer", UNFOUND)
        if answer.values:
            same = aligned(host, domain)
            return RecordFinding(
                "Tracking host",
                HOLDS if same else MEND,
                expected,
                f"{host}, {kind} {answer.values[0]}",
                "Links lead to a name of your own." if same else "Links lead to a name of another organisation.",
            )
    return RecordFinding("Tracking host", BROKEN, expected, f"{host} does not exist", "Links in mail lead nowhere.")


def block_list(ip: str, zone: str) -> Asking[RecordFinding]:
    """Whether a list (RFC 5782) names an address. A list that fails its own test entries says nothing."""
    record, expected = f"{zone}: {ip}", "not listed"

    def at(address: str) -> str:
        return f"{reverse_name(address).removesuffix('.in-addr.arpa').removesuffix('.ip6.arpa')}.{zone}"

    works = yield Question(at(TEST_LISTED), "A")
    clean = yield Question(at(TEST_CLEAN), "A")
    if "unknown" in (works.status, clean.status) or not works.values or clean.values:
        why = "the list does not answer as RFC 5782 says, so it says nothing"
        return RecordFinding(record, UNKNOWN, expected, why, "Nothing is concluded from it.")
    answer = yield Question(at(ip), "A")
    if answer.status == "unknown":
        return RecordFinding(record, UNKNOWN, expected, "no answer", UNFOUND)
    codes = [v for v in answer.values if ipaddress.ip_address(v) in LISTED]
    if not codes:
        return RecordFinding(record, HOLDS, expected, "not listed", "This list does not name your relay.")
    words = yield Question(at(ip), "TXT")
    reason = words.values[0] if words.values else "no reason given"
    return RecordFinding(
        record,
        BROKEN,
        expected,
        f"listed ({', '.join(codes)}): {reason}",
        "Receivers that ask this list refuse your mail.",
    )


def noted(domain: str) -> Asking[tuple[RecordFinding, RecordFinding]]:
    """MTA-STS (RFC 8461) and TLS reports (RFC 8460): noted, and never a reason to hold a plan."""
    out = []
    for record, name, version, means in (
        ("MTA-STS", f"_mta-sts.{domain}", "v=STSv1", "Others must use TLS when they write to you."),
        ("TLS reports", f"_smtp._tls.{domain}", "v=TLSRPTv1", "Others report when they could not use TLS to you."),
    ):
        answer = yield Question(name, "TXT")
        texts = [v for v in answer.values if v.startswith(version)]
        if answer.status == "unknown":
            found, state, meaning = "no answer", HOLDS, "Only noted; not needed to send."
        elif len(texts) == 1:
            found, state, meaning = texts[0], HOLDS, means
        else:
            found = f"{len(texts)} records" if texts else "not published"
            state, meaning = HOLDS, "Only noted; not needed to send."
        out.append(RecordFinding(record, state, f"optional: {version}; …", found, meaning))
    return out[0], out[1]


def ownership(domain: str, token: str) -> Asking[RecordFinding]:
    """The token that shows the domain is ours."""
    name, value = f"_meadow.{domain}", f"meadow={token}"
    fix = txt_line(name, value)
    answer = yield Question(name, "TXT")
    if answer.status == "unknown":
        return RecordFinding("Ownership", UNKNOWN, value, "no answer", UNFOUND, fix)
    if value in answer.values:
        return RecordFinding(
            "Ownership", HOLDS, value, f"TXT {name} carries your token", "You may send from this domain."
        )
    found = f"TXT {name} says {answer.values[0]}" if answer.values else f"no TXT at {name}"
    return RecordFinding(
        "Ownership", BROKEN, value, found, "It is not shown that this domain is yours. Publish the line.", fix
    )


def every_list(ips: Sequence[str], zones: Sequence[str]) -> Asking[list[RecordFinding]]:
    out = []
    for zone in zones:
        for ip in ips:
            out.append((yield from block_list(ip, zone)))
    return out
