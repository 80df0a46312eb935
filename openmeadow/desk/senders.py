"""Sending domains: claim, key, check; from-addresses: ask and confirm."""

from __future__ import annotations

import re
import secrets
from dataclasses import asdict
from typing import Any

import idna

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.authentication import dkim, records
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Said
from openmeadow.desk.desk import Desk
from openmeadow.store import senders, workspace
from openmeadow.wire.dns import Resolver, answer_all
from openmeadow.wire.dns import publish as send_update
from openmeadow.wire.smtp_out import Relay
from openmeadow.wire.tokens import Tokens

_HOST = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9-]{2,63}")


def add_domain(desk: Desk, text: str, who: str) -> int:
    """Claim a domain. Freemail providers' domains are refused: nobody can prove mail from them is theirs."""
    name = text.strip().rstrip(".").lower()
    try:
        name = idna.encode(name, uts46=True).decode() if name else ""
    except idna.IDNAError:
        name = ""
    if not _HOST.fullmatch(name):
        raise Refused(f"“{text.strip()[:80]}” is not a domain name; write it like news.kestrelquay.example.")
    if is_freemail(name):
        raise Refused(
            f"{name} is a freemail provider's domain. Its policy tells receivers to refuse mail sent from "
            "elsewhere, so it cannot be a sender; use a domain of your own."
        )
    with desk.store.atomic() as db:
        if senders.domain_named(db, name):
            raise Refused(f"{name} is already among the senders.")
        id = senders.add_domain(db, name, secrets.token_hex(12))
        workspace.log(db, desk.now(), who, "added domain", name)
    return id


def make_key(desk: Desk, id: int, who: str) -> None:
    """A fresh RSA key under a selector named after the month; the old key is replaced."""
    row = _domain(desk, id)
    key = dkim.new_key()
    selector = f"m{(int((row['selector'] or 'm0')[1:]) + 1)}"
    with desk.store.atomic() as db:
        senders.set_key(db, id, selector, key.private, key.public)
        workspace.log(db, desk.now(), who, "made DKIM key", f"{selector} for {row['name']}")


def _domain(desk: Desk, id: int) -> Any:
    row = senders.domain(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such domain among the senders.")
    return row


def facts(desk: Desk, row: Any) -> records.SenderFacts:
    settings = workspace.settings(desk.store.read())
    return records.SenderFacts(
        row["name"],
        row["token"],
        row["selector"] or "",
        row["public_key"] or "",
        tuple(settings["relay_ips"]),
        return_domain(row["name"]),
    )


def return_domain(domain: str) -> str:
    """Where bounces for a domain's mail come back."""
    return f"bounce.{domain}"


def check(desk: Desk, id: int) -> str:
    """Look up every record; the state is the worst of them."""
    row = _domain(desk, id)
    resolver = Resolver(str(desk.setting("resolver")))
    found = [answer_all(question(facts(desk, row)), resolver) for question in records.ALL]
    state = records.overall(found)
    with desk.store.atomic() as db:
        senders.set_checked(db, id, state, [asdict(f) for f in found], desk.now())
    return state


def relay(desk: Desk) -> Relay:
    s = workspace.settings(desk.store.read())
    return Relay(str(s["relay_host"]), int(s["relay_port"]), str(s["public_url"]).partition("//")[2].partition(":")[0])


def add_address(desk: Desk, domain_id: int, text: str, who: str) -> int:
    """A from-address of a domain; the confirming link is mailed to it."""
    domain = _domain(desk, domain_id)
    address = text.strip()
    if "@" not in address:
        address = f"{address}@{domain['name']}"
    if (problem := syntax_problem(address)) is not None:
        raise Refused(f"“{text.strip()[:80]}” is not an address: {problem}.")
    at = address_key(address).rpartition("@")[2]
    if is_freemail(at):
        raise Refused(
            f"{at} is a freemail provider's domain, so mail from it cannot be proved to be yours; use an "
            f"address at {domain['name']}."
        )
    if at != domain["name"]:
        raise Refused(f"This address is at {at}, not at {domain['name']}; add that domain first.")
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
    out = relay(desk)
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


def publish(desk: Desk, id: int, who: str) -> None:
    """Publish the lines of every record that does not hold, where the name server takes updates; then look again."""
    row, where = _domain(desk, id), str(desk.setting("resolver"))
    if not where:
        raise Refused("No name server that takes updates is set; publish the lines by hand.")
    resolver = Resolver(where)
    found = [answer_all(question(facts(desk, row)), resolver) for question in records.ALL]
    lines = [f.publish for f in found if f.publish and f.state != records.HOLDS]
    send_update(where, lines)
    with desk.store.atomic() as db:
        workspace.log(db, desk.now(), who, "published", row["name"], len(lines))
    check(desk, id)
