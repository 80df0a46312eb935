"""What stands around the mail records: return path, reverse DNS, tracking host, block lists, noted policies."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

from openmeadow.core.authentication.dmarc import aligned, organisational_domain
from openmeadow.core.authentication.findings import (
    FAIL,
    PASS,
    UNFOUND,
    UNKNOWN,
    WARNING,
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
        return RecordFinding("Return path", UNKNOWN, expected, "no reply", UNFOUND, fix)
    hosts = [h for h in answer.values if h]
    if answer.status == "found" and not hosts:
        return RecordFinding(
            "Return path", FAIL, expected, "a null MX: it does not accept mail", "Bounces cannot be received.", fix
        )
    if not hosts:
        return RecordFinding(
            "Return path",
            WARNING,
            expected,
            f"no MX at {return_domain}",
            "Bounces that arrive after sending are lost unless the relay catches them.",
            fix,
        )
    for host in hosts:
        for kind in ("A", "AAAA"):
            address = yield Question(host, kind)
            if address.status == "unknown":
                return RecordFinding("Return path", UNKNOWN, expected, f"{host} did not reply", UNFOUND, fix)
            if address.values:
                same = aligned(domain, return_domain)
                return RecordFinding(
                    "Return path",
                    PASS if same else WARNING,
                    expected,
                    f"{host} ({address.values[0]})",
                    "Bounces are received, and the return path is aligned with the From domain."
                    if same
                    else "Bounces are received. The return path belongs to another organisation, so SPF does not count "
                    "for DMARC.",
                    "" if same else fix,
                )
    return RecordFinding(
        "Return path", FAIL, expected, f"{', '.join(hosts)} has no address", "Bounces cannot be received.", fix
    )


def reverse_dns(ip: str, domain: str) -> Asking[RecordFinding]:
    """The relay's name, and that it points back."""
    record, name = f"Reverse DNS of {ip}", reverse_name(ip)
    expected = f"a name for {ip} that resolves back to it"
    fix = line(name, "PTR", f"mail.{domain}.")
    answer = yield Question(ip, "PTR")
    if answer.status == "unknown":
        return RecordFinding(record, UNKNOWN, expected, "no reply", UNFOUND, fix)
    if not answer.values:
        first = yield from _address_first(ip, domain)
        return RecordFinding(record, FAIL, expected, "no name", f"Large providers reject mail from it.{first}", fix)
    kind = _kind(ip)
    unsure = False
    for host in answer.values:
        back = yield Question(host, kind)
        unsure |= back.status == "unknown"
        if any(ipaddress.ip_address(v) == ipaddress.ip_address(ip) for v in back.values):
            return RecordFinding(record, PASS, expected, host, "Forward-confirmed reverse DNS.")
    host = answer.values[0]
    if unsure:
        return RecordFinding(record, UNKNOWN, expected, f"{host} did not reply", UNFOUND, fix)
    first = yield from _address_first(ip, domain)
    return RecordFinding(
        record, FAIL, expected, f"{host}, which does not resolve back", f"Receivers do not trust this name.{first}", fix
    )


def _kind(ip: str) -> str:
    return "A" if ipaddress.ip_address(ip).version == 4 else "AAAA"


def _address_first(ip: str, domain: str) -> Asking[str]:
    """What has to be published before the name that is proposed for an address leads back to it; "" for nothing."""
    name = f"mail.{domain}"
    answer = yield Question(name, _kind(ip))
    if answer.status == "unknown" or any(ipaddress.ip_address(v) == ipaddress.ip_address(ip) for v in answer.values):
        return ""
    return f" Publish the address of mail.{domain} first: {line(name, _kind(ip), ip)}"


def tracking_host(host: str, domain: str) -> Asking[RecordFinding]:
    """The name that links and images lead to: it exists, and is of the same organisation."""
    expected = f"a name under {domain}"
    try:
        ipaddress.ip_address(host)
    except ValueError:
        pass
    else:
        return RecordFinding(
            "Tracking host",
            WARNING,
            expected,
            f"the bare address {host}",
            "Links to an IP address look like phishing. Use a host name under your sending domain.",
        )
    for kind in ("CNAME", "A", "AAAA"):
        answer = yield Question(host, kind)
        if answer.status == "unknown":
            return RecordFinding("Tracking host", UNKNOWN, expected, "no reply", UNFOUND)
        if answer.values:
            same = aligned(host, domain)
            return RecordFinding(
                "Tracking host",
                PASS if same else WARNING,
                expected,
                f"{host}, {kind} {answer.values[0]}",
                "Links use your own domain." if same else "Links use a name of another organisation.",
            )
    return RecordFinding("Tracking host", FAIL, expected, f"{host} does not exist", "Links in your mail do not work.")


def block_list(ip: str, zone: str) -> Asking[RecordFinding]:
    """Whether a list (RFC 5782) names an address. A list that fails its own test entries says nothing."""
    record, expected = f"{zone}: {ip}", "not listed"

    def at(address: str) -> str:
        return f"{reverse_name(address).removesuffix('.in-addr.arpa').removesuffix('.ip6.arpa')}.{zone}"

    works = yield Question(at(TEST_LISTED), "A")
    clean = yield Question(at(TEST_CLEAN), "A")
    if "unknown" in (works.status, clean.status) or not works.values or clean.values:
        why = "invalid response (RFC 5782); ignored"
        return RecordFinding(record, UNKNOWN, expected, why, "Inconclusive.")
    answer = yield Question(at(ip), "A")
    if answer.status == "unknown":
        return RecordFinding(record, UNKNOWN, expected, "no reply", UNFOUND)
    codes = [v for v in answer.values if ipaddress.ip_address(v) in LISTED]
    if not codes:
        return RecordFinding(record, PASS, expected, "not listed", "Your relay is not listed.")
    words = yield Question(at(ip), "TXT")
    reason = words.values[0] if words.values else "no reason given"
    return RecordFinding(
        record, FAIL, expected, f"listed ({', '.join(codes)}): {reason}", "Receivers that use this list reject your mail."
    )


def noted(domain: str) -> Asking[tuple[RecordFinding, RecordFinding]]:
    """MTA-STS (RFC 8461) and TLS reports (RFC 8460): noted, and never a reason to hold a campaign."""
    out = []
    for record, name, version, means in (
        ("MTA-STS", f"_mta-sts.{domain}", "v=STSv1", "Inbound TLS required (MTA-STS)."),
        ("TLS reports", f"_smtp._tls.{domain}", "v=TLSRPTv1", "Reports of inbound TLS failures."),
    ):
        answer = yield Question(name, "TXT")
        texts = [v for v in answer.values if v.startswith(version)]
        if answer.status == "unknown":
            found, state, meaning = "no reply", PASS, "Optional; not needed to send."
        elif len(texts) == 1:
            found, state, meaning = texts[0], PASS, means
        else:
            found = f"{len(texts)} records" if texts else "not published"
            state, meaning = PASS, "Optional; not needed to send."
        out.append(RecordFinding(record, state, f"optional: {version}; …", found, meaning))
    return out[0], out[1]


def ownership(domain: str, token: str) -> Asking[RecordFinding]:
    """The token that shows the domain is ours."""
    name, value = f"_meadow.{domain}", f"meadow={token}"
    fix = txt_line(name, value)
    answer = yield Question(name, "TXT")
    if answer.status == "unknown":
        return RecordFinding("Ownership", UNKNOWN, value, "no reply", UNFOUND, fix)
    if value in answer.values:
        return RecordFinding("Ownership", PASS, value, f"TXT {name} contains your token", "The domain is verified.")
    found = f"TXT {name} says {answer.values[0]}" if answer.values else f"no TXT at {name}"
    return RecordFinding("Ownership", FAIL, value, found, "The domain is not verified. Publish the record.", fix)


def every_list(ips: Sequence[str], zones: Sequence[str]) -> Asking[list[RecordFinding]]:
    """What every block list says of every address."""
    out = []
    for zone in zones:
        for ip in ips:
            out.append((yield from block_list(ip, zone)))
    return out


def return_domain(domain: str) -> str:
    """Where bounces for a domain's mail come back."""
    return f"bounce.{domain}"
