"""Sending domains: claim, key, check; from addresses: ask and confirm."""

from __future__ import annotations

import itertools
import re
import secrets
from dataclasses import asdict, replace
from datetime import UTC, datetime

import idna

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.addresses.verdicts import slip_of
from openmeadow.core.authentication import dkim, dmarc, records
from openmeadow.core.authentication.findings import FAIL, PASS, WARNING, RecordFinding, overall, txt_line
from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.authentication.spf import Cost
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Said
from openmeadow.core.moments import DAY
from openmeadow.core.states import KeyState
from openmeadow.net import tls_probe
from openmeadow.net.dns import Resolver, answer_all
from openmeadow.net.dns import publish as send_update
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.senders import relay as relay_service
from openmeadow.services.senders import round_trip_test
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.health import reports
from openmeadow.store.senders import senders
from openmeadow.store.senders.records import Domain

KEEP_OLD_KEY, FRESH = 7 * DAY, 600
REPORTED_DAYS = 30
_HOST = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.){1,126}[a-z0-9-]{2,63}")


def domain_name(text: str) -> str:
    """A domain as it is compared: lower case, A-labels, no dot at the end."""
    name = text.strip().rstrip(".").lower()
    try:
        name = idna.encode(name, uts46=True).decode() if name else ""
    except idna.IDNAError:
        name = ""
    if not _HOST.fullmatch(name):
        raise Refused(f"“{text.strip()[:80]}” is not a domain name; write it like news.kestrelquay.example.")
    return name


def add_domain(workspace: Workspace, text: str, who: str) -> int:
    """Claim a domain. Freemail providers' domains are refused: nobody can prove mail from them is theirs."""
    name = domain_name(text)
    if is_freemail(name, workspace.setting("freemail_domains")):
        raise Refused(
            f"{name} is a free mailbox provider, and receivers reject such mail from other servers. Use your own domain."
        )
    with workspace.store.atomic() as db:
        if (there := senders.domain_named(db, name)) is not None:
            if there.removed_at is None:
                raise Refused(f"{name} is already set up.")
            senders.set_removed(db, "domains", there.id, None)
            settings_table.log(db, workspace.now(), who, "restored domain", name)
            return there.id
        alike = slip_of(name, [d.name for d in senders.domains(db)])
        if alike:
            settings_table.log(db, workspace.now(), who, f"added a domain that resembles {alike}", name)
        row_id = senders.add_domain(db, name, secrets.token_hex(12))
        settings_table.log(db, workspace.now(), who, "added domain", name)
    return row_id


def make_key(workspace: Workspace, row_id: int, who: str, kind: str = "rsa", *, beside: bool = False) -> None:
    """A fresh key under a selector of its own. The first one is used at once; a later one waits until it is
    published and proved, and the one before is kept for a week. ``beside``: of the other kind, so that both sign from
    then on (RFC 8463)."""
    row = _domain(workspace, row_id)
    if kind not in ("rsa", "ed25519"):
        raise Refused("A key is rsa or ed25519.")
    if beside and not row.public_key:
        raise Refused("There is no key yet that another one could sign beside.")
    if beside and dkim.kind_of(row.public_key or "") == kind:
        raise Refused(f"The current key is {kind} already; a second signature is of the other kind.")
    key = dkim.new_key(kind)
    with workspace.store.atomic() as db:
        taken = {row.selector, *(k.selector for k in senders.keys(db, row_id))}
        month = f"om{datetime.fromtimestamp(workspace.now(), UTC):%Y%m}"
        names = itertools.chain((month,), (f"{month}-{n}" for n in itertools.count(2)))
        selector = next(name for name in names if name not in taken)
        if row.selector:
            senders.add_next_key(db, row_id, selector, key.private, key.public, workspace.now(), beside=beside)
        else:
            senders.set_key(db, row_id, selector, key.private, key.public)
        settings_table.log(db, workspace.now(), who, "created DKIM key", f"{selector} for {row.name}")


def stop_second_signature(workspace: Workspace, row_id: int, who: str) -> None:
    """One key signs again; the other one's record must stay for a week, for mail still in transit."""
    row = _domain(workspace, row_id)
    with workspace.store.atomic() as db:
        if not senders.retire_second_keys(db, row_id, workspace.now()):
            raise Refused(f"{row.name} has no second signature.")
        settings_table.log(db, workspace.now(), who, "stopped the second signature", row.name)


def _domain(workspace: Workspace, row_id: int) -> Domain:
    row = senders.domain(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This domain is not set up here.")
    return row


def facts(workspace: Workspace, row: Domain) -> records.SenderFacts:
    """What is to be proved about a domain of this workspace."""
    settings = settings_table.settings(workspace.store.read())
    used = (records.Key(row.selector, row.public_key),) if row.selector and row.public_key else ()
    others = tuple(records.Key(k.selector, k.public_key) for k in senders.keys(workspace.store.read(), row.id))
    return records.SenderFacts(
        row.name,
        row.token,
        used + others,
        tuple(settings["relay_ips"]),
        return_domain(row.name),
        tracking_host(str(settings["public_url"])),
        tuple(settings["block_lists"]),
        str(settings["intake_name"]),
    )


def tracking_host(url: str) -> str:
    """The host that links in mail lead to; "" while the application is only reached on this machine."""
    host = url.partition("//")[2].partition("/")[0].rpartition("@")[2]
    host = host.partition("]")[0].lstrip("[") if host.startswith("[") else host.partition(":")[0]
    return "" if host in ("localhost", "") or host.startswith("127.") or host == "::1" else host


def check(workspace: Workspace, row_id: int) -> str:
    """Look up every record; the state is the worst of them. A proved next key is used from now on; a sender that
    broke holds the plans that need it. Where somebody else's look has been kept meanwhile, ours may be the older one:
    we look again."""
    for last in (False, False, True):
        state = _look(workspace, row_id, anyhow=last)
        if state:
            break
    return state


def _look(workspace: Workspace, row_id: int, *, anyhow: bool) -> str:
    """One look, and its state; "" where another one has been kept since it began, unless ``anyhow``."""
    row, now = _domain(workspace, row_id), workspace.now()
    resolver = Resolver(str(workspace.setting("resolver")))
    with workspace.store.atomic() as db:
        senders.drop_old_keys(db, row_id, now - KEEP_OLD_KEY)
    held = senders.keys(workspace.store.read(), row_id)
    others: dict[str, str] = {k.selector: "beside" if k.state == "next" and k.beside else k.state for k in held}
    row_waits_beside = "beside" in others.values()
    seen = answer_all(records.look(facts(workspace, row), lambda: _beyond_dns(workspace, row, resolver)), resolver)
    found, proved = [], False
    for f in seen.records:
        beside = others.get(f.record.removeprefix("DKIM ")) if f.record.startswith("DKIM ") else None
        proved |= beside in (KeyState.NEXT, "beside") and f.state in (PASS, WARNING)
        if beside and f.state == FAIL:
            found.append(replace(f, **_BESIDE[beside]))
        else:
            risk = _reported(workspace, row.name, f) if f.record == "DMARC" else ""
            found.append(replace(f, meaning=f"{f.meaning} {risk}") if risk else f)
    state = overall(found)
    spf = {
        "result": seen.spf.result,
        "lookups": seen.spf.lookups,
        "most": seen.spf.most,
        "advice": seen.spf.advice,
        "costs": [drawn(c) for c in seen.spf.costs],
    }
    with workspace.store.atomic() as db:
        if not anyhow and _domain(workspace, row_id).records != row.records:
            return ""
        senders.set_checked(db, row_id, state, [asdict(f) for f in found], spf, now)
        if proved:
            senders.use_next_key(db, row_id, now)
            begun = "began a second signature" if row_waits_beside else "switched to the next DKIM key"
            settings_table.log(db, now, "worker", begun, row.name)
    if state == FAIL:
        worst = next(f for f in found if f.state == FAIL)
        pause_campaigns(workspace, row, f"{row.name}, {worst.record}: {worst.found}")
    return state


def _reported(workspace: Workspace, name: str, found: RecordFinding) -> str:
    """What receivers' reports say of the DMARC policy that was found."""
    policy = dmarc.read(found.found)
    if policy is None:
        return ""
    ours, places = set(workspace.setting("relay_ips")), {name, dmarc.organisational_domain(name)}
    messages, failing = 0, {"ours": 0, "known": 0, "unknown": 0}
    for r in reports.sources(workspace.store.read(), workspace.now() - REPORTED_DAYS * DAY):
        if r.domain not in places:
            continue
        messages += r.messages
        mine = bool(r.ours) if r.ours is not None else r.ip in ours
        failing["ours" if mine else "known" if r.name else "unknown"] += r.messages - r.aligned
    return dmarc.risk(policy, messages, failing, REPORTED_DAYS)


def looks_like(workspace: Workspace, domain: str) -> str:
    """The older sending domain that this one is a slip away from; "" for none."""
    older = []
    for d in senders.domains(workspace.store.read()):
        if d.name == domain:
            break
        older.append(d.name)
    return slip_of(domain, older) or ""


def fresh_check(workspace: Workspace, row_id: int) -> str:
    """The domain's state, looked up again where the last look is older than ten minutes."""
    row = _domain(workspace, row_id)
    if row.checked_at is None or workspace.now() - row.checked_at >= FRESH:
        return check(workspace, row_id)
    return str(row.state)


_BESIDE: dict[str, dict[str, str]] = {
    "next": {
        "state": WARNING,
        "meaning": "The next key is waiting. Publish its record; it is used once it is found. Until then the current key signs.",
    },
    "beside": {
        "state": WARNING,
        "meaning": "The key for a second signature is waiting. Publish its record; once it is found, both keys sign.",
    },
    "second": {
        "state": WARNING,
        "meaning": "The second signature cannot be verified; the first still can. Publish the record, or stop signing twice.",
    },
    "old": {"state": PASS, "meaning": "Retired; valid for a week for mail still in transit."},
}


def drawn(c: Cost) -> dict[str, object]:
    """The look-ups of an SPF record as a tree of plain values."""
    return {"term": c.term, "domain": c.domain, "lookups": c.lookups, "below": [drawn(b) for b in c.below]}


def _beyond_dns(workspace: Workspace, row: Domain, resolver: Resolver) -> list[RecordFinding]:
    """What no question to the DNS answers: a message signed here that verifies, and the relay's TLS."""
    out = []
    if row.selector and row.private_key:
        out.append(tls_probe.signature(row.name, row.selector, row.private_key, workspace.now(), resolver))
    s = settings_table.settings(workspace.store.read())
    out.append(relay_service.finding(workspace))
    if host := tracking_host(str(s["public_url"])):
        out.append(tls_probe.tracking_tls(host, https=str(s["public_url"]).startswith("https")))
    went = round_trip_test.finding(row, workspace.now())
    return [*out, went] if went else out


def pause_campaigns(workspace: Workspace, row: Domain, why: str) -> int:
    """Hold every plan under way that sends from a domain; how many."""
    held = 0
    with workspace.store.atomic() as db:
        for c in campaigns.under_way_from(db, row.id):
            campaigns.update(db, c.id, {"state": "paused", "paused_why": f"A DNS record of its sender fails: {why}."})
            settings_table.log(db, workspace.now(), "worker", "paused campaign", c.name)
            held += 1
    return held


def add_address(workspace: Workspace, domain_id: int, text: str, who: str) -> int:
    """A from address of a domain; the confirming link is mailed to it."""
    domain = _domain(workspace, domain_id)
    address = text.strip()
    if "@" not in address:
        address = f"{address}@{domain.name}"
    if (problem := syntax_problem(address)) is not None:
        raise Refused(f"“{text.strip()[:80]}” is not an address: {problem}.")
    at = address_key(address).rpartition("@")[2]
    if is_freemail(at, workspace.setting("freemail_domains")):
        raise Refused(
            f"{at} is a free mailbox provider, so mail from it cannot be authenticated as yours. Use an address "
            f"at {domain.name}."
        )
    if at != domain.name:
        alike = slip_of(at, [domain.name])
        raise Refused(
            f"This address is at {at}, which resembles {alike}. Is it a typo?"
            if alike
            else f"{at} is not verified here, and it is not {domain.name}. Add that domain first and publish its records."
        )
    with workspace.store.atomic() as db:
        there = senders.address_named(db, address)
        if there is not None and there.removed_at is None:
            raise Refused(f"{address} already exists.")
        if there is not None:
            senders.set_removed(db, "from_addresses", there.id, None)
        row_id = there.id if there is not None else senders.add_address(db, domain_id, address, workspace.now())
        settings_table.log(db, workspace.now(), who, "added from address", address)
    ask_to_confirm(workspace, row_id)
    return row_id


def ask_to_confirm(workspace: Workspace, row_id: int) -> None:
    """Mail the confirming link to a from address."""
    row = senders.address(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This from address does not exist.")
    link = f"{workspace.setting('public_url')}/k/{Tokens(workspace.folder).make('k', row_id)}"
    text = (
        f"Someone at {workspace.setting('name')} wants to send email from {row.address} with Open Meadow.\n\n"
        f"To allow it, open this page and click the button:\n{link}\n\nIf you do not want this, ignore this email.\n"
    )
    message = assemble(
        Said(f"Confirm {row.address} as a from address", "", text),
        Envelope(
            str(workspace.setting("name")),
            row.address,
            row.address,
            f"<confirm.{row_id}.{secrets.token_hex(6)}@{row.domain_name}>",
            workspace.now(),
        ),
    )
    message = dkim.sign(message, row.domain_name, row.selector, row.private_key, workspace.now())
    out = relay_service.relay(workspace)
    try:
        result = out.submit(f"confirm@{return_domain(row.domain_name)}", row.address, message)
    finally:
        out.close()
    if result.outcome != "taken":
        raise Refused(f"The relay rejected the confirmation to {row.address}: {result.code} {result.text}.")


def confirm(workspace: Workspace, row_id: int) -> str:
    """What pressing the button does; pressing it again changes nothing."""
    row = senders.address(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This from address does not exist any more.")
    with workspace.store.atomic() as db:
        if senders.confirm(db, row_id, workspace.now()):
            settings_table.log(db, workspace.now(), row.address, "confirmed from address", row.address)
    return str(row.address)


def zone_of(workspace: Workspace, row_id: int) -> str:
    """All lines that a domain needs, as zone lines (RFC 1035)."""
    row = _domain(workspace, row_id)
    found = answer_all(records.look(facts(workspace, row)), Resolver(str(workspace.setting("resolver")))).records
    lines = [hosts_line for f in found if (hosts_line := f.publish or _line_of(f, row))]
    return f"; what {row.name} needs\n" + "\n".join(dict.fromkeys(lines)) + "\n"


def _line_of(f: RecordFinding, row: Domain) -> str:
    """The line of a record that holds, where it is known word for word."""
    if f.record == "Ownership":
        return txt_line(f"_meadow.{row.name}", f.expected)
    if f.record.startswith("DKIM "):
        return txt_line(f"{f.record.removeprefix('DKIM ')}._domainkey.{row.name}", f.expected)
    return ""


def _ours(line: str, domain: str) -> bool:
    """Whether a zone line stands under the domain; the relay's reverse name, for one, is somebody else's to publish."""
    return line.partition(" ")[0].endswith(f"{domain}.")


def publish(workspace: Workspace, row_id: int, who: str) -> None:
    """Publish the lines of every record that does not hold, where the name server takes updates; then look again."""
    row, where = _domain(workspace, row_id), str(workspace.setting("resolver"))
    if not where:
        raise Refused("No DNS server for dynamic updates is set. Publish the records manually.")
    resolver = Resolver(where)
    found = answer_all(records.look(facts(workspace, row)), resolver).records
    lines = [f.publish for f in found if f.publish and f.state != PASS and _ours(f.publish, row.name)]
    send_update(where, lines)
    with workspace.store.atomic() as db:
        settings_table.log(db, workspace.now(), who, "published", row.name, len(lines))
    check(workspace, row_id)
