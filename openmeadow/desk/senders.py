"""Sending domains: claim, key, check; from-addresses: ask and confirm."""

from __future__ import annotations

import re
import secrets
from dataclasses import asdict, replace
from typing import Any

import idna

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.addresses.verdicts import slip_of
from openmeadow.core.authentication import dkim, dmarc, records
from openmeadow.core.authentication.findings import BROKEN, HOLDS, MEND, RecordFinding, overall, txt_line
from openmeadow.core.authentication.spf import Cost
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Said
from openmeadow.desk import relay as desk_relay
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, reports, senders, workspace
from openmeadow.wire import proof
from openmeadow.wire.dns import Resolver, answer_all
from openmeadow.wire.dns import publish as send_update
from openmeadow.wire.tokens import Tokens

KEEP_OLD_KEY, FRESH = 7 * 86_400, 600
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


def add_domain(desk: Desk, text: str, who: str) -> int:
    """Claim a domain. Freemail providers' domains are refused: nobody can prove mail from them is theirs."""
    name = domain_name(text)
    if is_freemail(name, desk.setting("freemail_domains")):
        raise Refused(
            f"Anybody can have an address at {name}: it is on the list of freemail domains. Receivers refuse such mail "
            "when it is sent from elsewhere, so it cannot be a sender; use a domain of your own."
        )
    with desk.store.atomic() as db:
        if senders.domain_named(db, name):
            raise Refused(f"{name} is already among the senders.")
        alike = slip_of(name, [d["name"] for d in senders.domains(db)])
        if alike:
            workspace.log(db, desk.now(), who, f"added a domain that looks like {alike}", name)
        id = senders.add_domain(db, name, secrets.token_hex(12))
        workspace.log(db, desk.now(), who, "added domain", name)
    return id


def make_key(desk: Desk, id: int, who: str, kind: str = "rsa") -> None:
    """A fresh key under a selector of its own. The first one is used at once; a later one waits until it is
    published and proved, and the one before is kept for a week."""
    row = _domain(desk, id)
    if kind not in ("rsa", "ed25519"):
        raise Refused("A key is rsa or ed25519.")
    key = dkim.new_key(kind)
    with desk.store.atomic() as db:
        numbers = [int(s[1:]) for s in (row["selector"] or "m0", *(k["selector"] for k in senders.keys(db, id)))]
        selector = f"m{max(numbers) + 1}"
        if row["selector"]:
            senders.add_next_key(db, id, selector, key.private, key.public, desk.now())
        else:
            senders.set_key(db, id, selector, key.private, key.public)
        workspace.log(db, desk.now(), who, "made DKIM key", f"{selector} for {row['name']}")


def _domain(desk: Desk, id: int) -> Any:
    row = senders.domain(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such domain among the senders.")
    return row


def facts(desk: Desk, row: Any) -> records.SenderFacts:
    """What is to be proved about a domain of this workspace."""
    settings = workspace.settings(desk.store.read())
    used = (records.Key(row["selector"], row["public_key"]),) if row["selector"] else ()
    others = tuple(records.Key(k["selector"], k["public_key"]) for k in senders.keys(desk.store.read(), row["id"]))
    return records.SenderFacts(
        row["name"],
        row["token"],
        used + others,
        tuple(settings["relay_ips"]),
        return_domain(row["name"]),
        tracking_host(str(settings["public_url"])),
        tuple(settings["block_lists"]),
        str(settings["intake_name"]),
    )


def tracking_host(url: str) -> str:
    """The host that links in mail lead to; "" while the application is only reached on this machine."""
    host = url.partition("//")[2].partition("/")[0].rpartition("@")[2]
    host = host.partition("]")[0].lstrip("[") if host.startswith("[") else host.partition(":")[0]
    return "" if host in ("localhost", "") or host.startswith("127.") or host == "::1" else host


def return_domain(domain: str) -> str:
    """Where bounces for a domain's mail come back."""
    return f"bounce.{domain}"


def check(desk: Desk, id: int) -> str:
    """Look up every record; the state is the worst of them. A proved next key is used from now on; a sender that
    broke holds the plans that need it."""
    row, now = _domain(desk, id), desk.now()
    resolver = Resolver(str(desk.setting("resolver")))
    with desk.store.atomic() as db:
        senders.drop_old_keys(db, id, now - KEEP_OLD_KEY)
    others = {k["selector"]: k["state"] for k in senders.keys(desk.store.read(), id)}
    seen = answer_all(records.look(facts(desk, row), lambda: _beyond_dns(desk, row, resolver)), resolver)
    found, proved = [], False
    for f in seen.records:
        state = others.get(f.record.removeprefix("DKIM ")) if f.record.startswith("DKIM ") else None
        proved |= state == "next" and f.state in (HOLDS, MEND)
        if state and f.state == BROKEN:
            found.append(replace(f, **_BESIDE[state]))
        else:
            risk = _reported(desk, row["name"], f) if f.record == "DMARC" else ""
            found.append(replace(f, meaning=f"{f.meaning} {risk}") if risk else f)
    state = overall(found)
    spf = {
        "result": seen.spf.result,
        "lookups": seen.spf.lookups,
        "most": seen.spf.most,
        "advice": seen.spf.advice,
        "costs": [drawn(c) for c in seen.spf.costs],
    }
    with desk.store.atomic() as db:
        senders.set_checked(db, id, state, [asdict(f) for f in found], spf, now)
        if proved:
            senders.use_next_key(db, id, now)
            workspace.log(db, now, "worker", "uses the next DKIM key", row["name"])
    if state == BROKEN:
        worst = next(f for f in found if f.state == BROKEN)
        hold_plans(desk, row, f"{row['name']}, {worst.record}: {worst.found}")
    return state


def _reported(desk: Desk, name: str, found: RecordFinding) -> str:
    """What receivers' reports say of the DMARC policy that was found."""
    policy = dmarc.read(found.found)
    if policy is None:
        return ""
    ours, places = set(desk.setting("relay_ips")), {name, dmarc.organisational_domain(name)}
    messages, failing = 0, {"ours": 0, "known": 0, "unknown": 0}
    for r in reports.sources(desk.store.read(), desk.now() - REPORTED_DAYS * 86_400):
        if r["domain"] not in places:
            continue
        messages += r["messages"]
        mine = bool(r["ours"]) if r["ours"] is not None else r["ip"] in ours
        failing["ours" if mine else "known" if r["name"] else "unknown"] += r["messages"] - r["aligned"]
    return dmarc.risk(policy, messages, failing, REPORTED_DAYS)


def looks_like(desk: Desk, domain: str) -> str:
    """The older sending domain that this one is a slip away from; "" for none."""
    older = []
    for d in senders.domains(desk.store.read()):
        if d["name"] == domain:
            break
        older.append(d["name"])
    return slip_of(domain, older) or ""


def fresh_check(desk: Desk, id: int) -> str:
    """The domain's state, looked up again where the last look is older than ten minutes."""
    row = _domain(desk, id)
    if row["checked_at"] is None or desk.now() - row["checked_at"] >= FRESH:
        return check(desk, id)
    return str(row["state"])


_BESIDE: dict[str, dict[str, str]] = {
    "next": {
        "state": MEND,
        "meaning": "The next key waits: publish its line, and it is used as soon as it is proved. Until then the one "
        "before signs.",
    },
    "old": {"state": HOLDS, "meaning": "Retired; kept for a week for mail that is still under way."},
}


def drawn(c: Cost) -> dict[str, Any]:
    return {"term": c.term, "domain": c.domain, "lookups": c.lookups, "below": [drawn(b) for b in c.below]}


def _beyond_dns(desk: Desk, row: Any, resolver: Resolver) -> list[RecordFinding]:
    """What no question to the DNS answers: a message signed here that verifies, and the relay's TLS."""
    out = []
    if row["selector"]:
        out.append(proof.signature(row["name"], row["selector"], row["private_key"], desk.now(), resolver))
    s = workspace.settings(desk.store.read())
    out.append(desk_relay.finding(desk))
    if host := tracking_host(str(s["public_url"])):
        out.append(proof.tracking_tls(host, https=str(s["public_url"]).startswith("https")))
    from openmeadow.desk import round_trip

    went = round_trip.finding(row, desk.now())
    return [*out, went] if went else out


def hold_plans(desk: Desk, row: Any, why: str) -> int:
    """Hold every plan under way that sends from a domain; how many."""
    held = 0
    with desk.store.atomic() as db:
        for c in campaigns.under_way_from(db, row["id"]):
            campaigns.update(db, c["id"], {"state": "held", "held_why": f"A record of its sender is broken: {why}."})
            workspace.log(db, desk.now(), "worker", "held plan", c["name"])
            held += 1
    return held


def add_address(desk: Desk, domain_id: int, text: str, who: str) -> int:
    """A from-address of a domain; the confirming link is mailed to it."""
    domain = _domain(desk, domain_id)
    address = text.strip()
    if "@" not in address:
        address = f"{address}@{domain['name']}"
    if (problem := syntax_problem(address)) is not None:
        raise Refused(f"“{text.strip()[:80]}” is not an address: {problem}.")
    at = address_key(address).rpartition("@")[2]
    if is_freemail(at, desk.setting("freemail_domains")):
        raise Refused(
            f"Anybody can have an address at {at}: it is on the list of freemail domains, so mail from it cannot be "
            f"proved to be yours. Use an address at {domain['name']}."
        )
    if at != domain["name"]:
        alike = slip_of(at, [domain["name"]])
        raise Refused(
            f"This address is at {at}, which looks like {alike} and is not: a typing slip?"
            if alike
            else f"Nobody has proved here that {at} is yours: it is not {domain['name']}. Add that domain first, and "
            "publish its lines."
        )
    with desk.store.atomic() as db:
        if senders.address_named(db, address):
            raise Refused(f"{address} is already there.")
        id = senders.add_address(db, domain_id, address, desk.now())
        workspace.log(db, desk.now(), who, "added from-address", address)
    ask_to_confirm(desk, id)
    return id


def ask_to_confirm(desk: Desk, id: int) -> None:
    """Mail the confirming link to a from-address."""
    row = senders.address(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such from-address.")
    link = f"{desk.setting('public_url')}/k/{Tokens(desk.folder).make('k', id)}"
    text = (
        f"Somebody at {desk.setting('name')} wants to send mail from {row['address']} with Open Meadow.\n\n"
        f"If that is right, open this page and press the button:\n{link}\n\nIf not, do nothing.\n"
    )
    message = assemble(
        Said(f"Confirm {row['address']} as a from-address", "", text),
        Envelope(
            str(desk.setting("name")),
            row["address"],
            row["address"],
            f"<confirm.{id}.{secrets.token_hex(6)}@{row['domain_name']}>",
            desk.now(),
        ),
    )
    if row["private_key"]:
        message = (
            dkim.Signer(row["domain_name"], row["selector"], row["private_key"]).header(message, desk.now()) + message
        )
    out = desk_relay.relay(desk)
    try:
        result = out.hand_over(f"confirm@{return_domain(row['domain_name'])}", row["address"], message)
    finally:
        out.close()
    if result.outcome != "taken":
        raise Refused(f"The confirming mail to {row['address']} was not taken: {result.code} {result.text}.")


def confirm(desk: Desk, id: int) -> str:
    """What pressing the button does; pressing it again changes nothing."""
    row = senders.address(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such from-address any more.")
    with desk.store.atomic() as db:
        if senders.confirm(db, id, desk.now()):
            workspace.log(db, desk.now(), row["address"], "confirmed from-address", row["address"])
    return str(row["address"])


def zone_of(desk: Desk, id: int) -> str:
    """All lines that a domain needs, as zone lines (RFC 1035)."""
    row = _domain(desk, id)
    found = answer_all(records.look(facts(desk, row)), Resolver(str(desk.setting("resolver")))).records
    lines = [hosts_line for f in found if (hosts_line := f.publish or _line_of(f, row))]
    return f"; what {row['name']} needs\n" + "\n".join(dict.fromkeys(lines)) + "\n"


def _line_of(f: RecordFinding, row: Any) -> str:
    """The line of a record that holds, where it is known word for word."""
    if f.record == "Ownership":
        return txt_line(f"_meadow.{row['name']}", f.expected)
    if f.record.startswith("DKIM "):
        return txt_line(f"{f.record.removeprefix('DKIM ')}._domainkey.{row['name']}", f.expected)
    return ""


def _ours(line: str, domain: str) -> bool:
    """Whether a zone line stands under the domain; the relay's reverse name, for one, is somebody else's to publish."""
    return line.partition(" ")[0].endswith(f"{domain}.")


def publish(desk: Desk, id: int, who: str) -> None:
    """Publish the lines of every record that does not hold, where the name server takes updates; then look again."""
    row, where = _domain(desk, id), str(desk.setting("resolver"))
    if not where:
        raise Refused("No name server that takes updates is set; publish the lines by hand.")
    resolver = Resolver(where)
    found = answer_all(records.look(facts(desk, row)), resolver).records
    lines = [f.publish for f in found if f.publish and f.state != HOLDS and _ours(f.publish, row["name"])]
    send_update(where, lines)
    with desk.store.atomic() as db:
        workspace.log(db, desk.now(), who, "published", row["name"], len(lines))
    check(desk, id)
