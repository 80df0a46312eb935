"""Joining by a form: asked twice, mailed only to be asked, forgotten when nobody confirms; and changing an address."""

from __future__ import annotations

import ipaddress
import json
import re
import secrets
from collections.abc import Mapping
from typing import Any

from openmeadow.core.addresses.aliases import alias_rules, mailbox
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.authentication import dkim
from openmeadow.core.consent.gate import AWAITING, GIVEN, SUPPRESSION_REASONS, ask
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Said
from openmeadow.desk import consent, erasure
from openmeadow.desk.desk import Desk
from openmeadow.desk.relay import relay
from openmeadow.desk.senders import return_domain
from openmeadow.store import consent as evidence
from openmeadow.store import erasure as erased_table
from openmeadow.store import providers, senders, signups, subscribers, workspace
from openmeadow.wire.tokens import Tokens

DAY = 86_400
LAPSE_DAYS = 21
SLOW_WINDOW, SLOW_AFTER = 3600, 8  # from one network, unconfirmed
BURST = 5
MOST_OF_ONE = 3  # sign-ups of one mailbox within a day
MOST_REMINDERS = 2
COMPLAINED = 1 + SUPPRESSION_REASONS.index("complaint")
CHANGES_A_DAY, CHANGES_TO_ONE = 3, 2  # of address: by one person, to one mailbox
LINK = "{{ link }}"
LATER = 1800  # a mail that the relay did not take is tried again


def network_of(ip: str) -> str:
    """The neighbourhood of an address: /24 of IPv4, /56 of IPv6; "" for none."""
    try:
        address = ipaddress.ip_address(ip)
    except ValueError:
        return ""
    return str(ipaddress.ip_network(f"{ip}/{24 if address.version == 4 else 56}", strict=False))


def pattern_of(key: str) -> str:
    """An address with its numbers left out, such as ann…@postern.example; "" for one without numbers."""
    local, _, domain = key.rpartition("@")
    shape = re.sub(r"\d+", "…", local)
    return f"{shape}@{domain}" if shape != local else ""


def _target_of(key: str) -> str:
    """An address without what stands after a plus sign: most mail hosts take it for the same mailbox."""
    local, _, domain = key.rpartition("@")
    return f"{local.partition('+')[0] or local}@{domain}"


def _patterns(desk: Desk, since: int) -> dict[str, list[tuple[int, str]]]:
    """(moment, network) of unconfirmed sign-ups by the pattern of their addresses."""
    out: dict[str, list[tuple[int, str]]] = {}
    for r in signups.unconfirmed(desk.store.read(), since):
        if pattern := pattern_of(r["email_key"]):
            out.setdefault(pattern, []).append((int(r["at"]), str(r["network"])))
    return out


def write_form(desk: Desk, list_name: str, values: dict[str, Any], who: str) -> int:
    """Make or change the form of a list."""
    if not list_name.strip():
        raise Refused("A form needs the name of its list.")
    if not values["purposes"]:
        raise Refused("Choose at least one purpose people can agree to.")
    if len(values["reminders"]) > MOST_REMINDERS:
        raise Refused(f"At most {MOST_REMINDERS} reminders are sent.")
    if any(not 0 < d < LAPSE_DAYS for d in values["reminders"]) or sorted(values["reminders"]) != values["reminders"]:
        raise Refused(f"Reminders come in order, between one and {LAPSE_DAYS - 1} days after the sign-up.")
    text = str(values.setdefault("mail_text", "")).strip()
    values["mail_subject"] = " ".join(str(values.get("mail_subject", "")).split())
    if text and LINK not in text:
        raise Refused(f"The confirming message needs {LINK} where the address of its page is to stand.")
    with desk.store.atomic() as db:
        list_id, _ = subscribers.named(db, "lists", list_name.strip())
        known = {p["id"] for p in evidence.purposes(db)}
        if not set(values["purposes"]) <= known:
            raise Refused("There is no such purpose.")
        id = signups.save_form(db, list_id, values)
        workspace.log(db, desk.now(), who, "wrote sign-up form", list_name.strip())
    return id


def form(desk: Desk, list_name: str) -> dict[str, Any]:
    """What the page of a list's form shows."""
    db = desk.store.read()
    row = signups.form_of_list(db, list_name)
    if row is None or not row["is_open"]:
        raise Missing("There is no open sign-up for this list.")
    chosen = json.loads(row["purposes"])
    shown = [p for p in evidence.purposes(db) if p["id"] in chosen and not p["left_out"]]
    return {
        "id": row["id"],
        "list": row["list_name"],
        "intro": row["intro"],
        "ask_name": bool(row["ask_name"]),
        "confirm": bool(row["confirm"]),
        "purposes": [
            {"id": p["id"], "name": p["name"], "text": p["text"] or "", "wording_id": p["wording_id"]} for p in shown
        ],
        "who": str(desk.setting("name")),
    }


def join(
    desk: Desk,
    list_name: str,
    email: str,
    name: str,
    purposes: list[int],
    ip: str,
    shown: Mapping[int, int] | None = None,
    page: str = "",
) -> None:
    """Take a sign-up. Whoever is there already and whoever is new get the same answer; nothing is mailed but the
    question whether it was them. ``shown`` are the wordings that stood on its page, by purpose."""
    f, email = form(desk, list_name), email.strip()
    if (problem := syntax_problem(email)) is not None:
        raise Refused(f"“{email[:80]}” is not an address: {problem}. Look at it again.")
    wanted = [p["id"] for p in f["purposes"] if p["id"] in purposes]
    if not wanted:
        raise Refused("Choose at least one thing you would like to hear about.")
    now, network = desk.now(), network_of(ip)
    if network and signups.from_network(desk.store.read(), network, now - SLOW_WINDOW) >= SLOW_AFTER:
        raise Refused("Many sign-ups came from your network within the hour. Try again in an hour.")
    key = address_key(email)
    aliases = alias_rules(desk.setting("alias_rules"))
    target = mailbox(_target_of(key), aliases)
    same = [k for k in signups.keys_since(desk.store.read(), now - DAY) if mailbox(_target_of(k), aliases) == target]
    if len(same) >= MOST_OF_ONE:
        raise Refused("Many sign-ups like this one came within the day. Try again tomorrow.")
    if len(_patterns(desk, now - SLOW_WINDOW).get(pattern_of(key), ())) >= SLOW_AFTER:
        raise Refused("Many sign-ups like this one came within the hour. Try again in an hour.")
    with desk.store.atomic() as db:
        hash_key = erased_table.key(db)
        if hash_key:  # somebody erased who comes back by themselves
            erased_table.forget_hash(db, erasure.hashed(hash_key, key))
        if not subscribers.ids_of(db, [key]):  # a stranger changes nothing about who is here already
            subscribers.upsert(
                db,
                [
                    {"email": email, "key": key, "name": name.strip()[:200] or None, "joined_at": None, "now": now}
                    | {
                        "time_zone": None,
                        "language": None,
                        "country": None,
                        "provider": providers.of_domain(db, key.rpartition("@")[2]),
                        "fields": "{}",
                    }
                    | {"door": subscribers.named(db, "doors", f["list"])[0], "deed": None}
                ],
            )
        id = subscribers.ids_of(db, [key])[key]
        there = signups.awaiting_of(db, f["id"], id)
        if there is not None:
            return
        kept = {p: (shown or {}).get(p) for p in wanted}
        signup = signups.add(db, f["id"], id, wanted, now, network, now if f["confirm"] else None, kept, page)
    if f["confirm"]:
        list_id = _list_id(desk, f["list"])
        for purpose in wanted:
            if not _has_given(desk, id, purpose):
                consent.said(desk, id, purpose, AWAITING, "form", list_id, wording=kept[purpose], form=f["id"], page=page)
    else:
        _confirmed(desk, signup, "form")


def _list_id(desk: Desk, name: str) -> int:
    row = desk.store.read().execute("SELECT id FROM lists WHERE name = ?", (name,)).fetchone()
    return int(row["id"])


def _has_given(desk: Desk, subscriber: int, purpose: int) -> bool:
    return evidence.latest(desk.store.read(), subscriber, purpose) == GIVEN


def confirm(desk: Desk, signup: int) -> str:
    """What pressing the button does; again does no harm. The list's name."""
    row = signups.one(desk.store.read(), signup)
    if row is None:
        raise Missing("This sign-up is not there any more.")
    if row["state"] != "confirmed":
        _confirmed(desk, signup, "confirmation link")
    return str(row["list_name"])


def agrees_to(desk: Desk, signup: int) -> list[tuple[str, str]]:
    """What confirming says yes to: each purpose with the wording that the form showed."""
    row, db = signups.one(desk.store.read(), signup), desk.store.read()
    if row is None or row["state"] == "confirmed":
        return []
    names = {p["id"]: p["name"] for p in evidence.purposes(db)}
    shown = json.loads(row["shown"])
    out = []
    for purpose in json.loads(row["purposes"]):
        wording = evidence.wording(db, shown.get(str(purpose)) or 0)
        out.append((str(names.get(purpose, "")), str(wording["text"]) if wording else ""))
    return out


def _confirmed(desk: Desk, signup: int, door: str) -> None:
    row = signups.one(desk.store.read(), signup)
    assert row is not None
    shown = json.loads(row["shown"])
    for purpose in json.loads(row["purposes"]):
        consent.said(
            desk,
            row["subscriber"],
            purpose,
            GIVEN,
            door,
            row["list"],
            wording=shown.get(str(purpose)),
            form=row["form"],
            page=row["page"],
        )
    with desk.store.atomic() as db:
        signups.confirmed(db, signup, desk.now())
        subscribers.add_members(db, [(row["list"], row["subscriber"], desk.now(), None)])


def tend(desk: Desk) -> int:
    """Mail what is due to those who await, and let lapse who never confirmed; how many mails went out."""
    db, now, sent = desk.store.read(), desk.now(), _tend_changes(desk)
    with desk.store.atomic() as w:
        lapsed = signups.lapse(w, now - LAPSE_DAYS * DAY)
    for row in lapsed:
        for purpose in json.loads(row["purposes"]):
            if evidence.latest(db, row["subscriber"], purpose) == AWAITING:
                before = evidence.latest(db, row["subscriber"], purpose, other_than=AWAITING)
                consent.said(desk, row["subscriber"], purpose, before, "form")  # a no stays a no
    for id in signups.due(db, now):
        signup = signups.one(db, id)
        assert signup is not None
        days = [0, *json.loads(signup["reminders"])[:MOST_REMINDERS]]
        n = signup["mails"]
        once = _looks_made(desk, signup) or _has_complained(desk, signup)
        ahead = [] if once else [signup["at"] + d * DAY for d in days[n + 1 :]]
        if once and n:  # asked once, and left alone
            with desk.store.atomic() as w:
                signups.put_off(w, id, None)
            continue
        if _may_be_asked(desk, signup) and not _mail(desk, signup, n):
            with desk.store.atomic() as w:
                signups.put_off(w, id, now + LATER)
            continue
        sent += 1
        with desk.store.atomic() as w:
            signups.mailed(w, id, ahead[0] if ahead else None)
    return sent


def _looks_made(desk: Desk, signup: Any) -> bool:
    """Whether a sign-up came among many from its network, or of its pattern, within a day: such ones are asked once."""
    db, around = desk.store.read(), (signup["at"] - DAY, signup["at"] + DAY)
    if signup["network"] and signups.around(db, signup["network"], *around) >= BURST:
        return True
    person = subscribers.subscriber(db, signup["subscriber"])
    pattern = pattern_of(str(person["email_key"])) if person else ""
    return bool(pattern) and len(_patterns(desk, around[0]).get(pattern, ())) >= BURST


def _has_complained(desk: Desk, signup: Any) -> bool:
    """Who complained once and asks to come back is asked whether it was them, once."""
    return evidence.is_suppressed_for(desk.store.read(), signup["subscriber"], COMPLAINED)


def _may_be_asked(desk: Desk, signup: Any) -> bool:
    """The gate, for a confirmation."""
    view = desk.view()
    at = desk.index_of(view, signup["subscriber"])
    names = {p["id"]: p["name"] for p in evidence.purposes(desk.store.read())}
    facts = view.facts
    return any(
        bool(ask(facts.standing(names[p], limits=False), "confirmation").permitted[at])  # type: ignore[attr-defined]
        for p in json.loads(signup["purposes"])
    )


def _mail(desk: Desk, signup: Any, n: int) -> bool:
    person = subscribers.subscriber(desk.store.read(), signup["subscriber"])
    if person is None or person["erased_at"]:
        return True
    who = str(desk.setting("name"))
    link = f"{desk.setting('public_url')}/k/{Tokens(desk.folder).make('s', signup['id'])}"
    opening = (
        f"Somebody, probably you, asked to join {signup['list_name']} of {who} with this address."
        if n == 0
        else f"You asked to join {signup['list_name']} of {who} and have not confirmed it yet."
    )
    last = "\nThis is the last time we ask." if n and n == len(json.loads(signup["reminders"])) else ""
    text = (
        f"{opening}\n\nTo confirm, open this page and press the button:\n{link}\n\nIf it was not you, do nothing.{last}\n"
    )
    subject = f"Please confirm: {signup['list_name']}" if n == 0 else f"Still to confirm: {signup['list_name']}"
    if signup["mail_text"]:
        words = {LINK: link, "{{ list }}": signup["list_name"], "{{ name }}": str(person["name"] or "")}
        text = signup["mail_text"]
        for hole, word in words.items():
            text = text.replace(hole, word)
        text += last
    if signup["mail_subject"]:
        subject = signup["mail_subject"] if n == 0 else f"Reminder: {signup['mail_subject']}"
    return send_text(desk, str(person["email"]), subject, text)


def send_text(desk: Desk, to: str, subject: str, text: str) -> bool:
    """A plain message from the first confirmed from-address that can sign; False when it could not be handed over."""
    db = desk.store.read()
    row = senders.ready_address(db)
    if row is None or not row["private_key"]:
        return False
    now, domain = desk.now(), str(row["domain_name"])
    mark = f"<ask.{secrets.token_hex(8)}@{domain}>"
    postal = str(desk.setting("postal_address"))
    said = Said(subject, "", f"{text}\n{postal}\n" if postal else text)
    message = assemble(said, Envelope(str(desk.setting("name")), str(row["address"]), to, mark, now))
    message = dkim.Signer(domain, row["selector"], row["private_key"]).header(message, now) + message
    out = relay(desk)
    try:
        return out.hand_over(f"ask@{return_domain(domain)}", to, message).outcome == "taken"
    finally:
        out.close()


def ask_new_address(desk: Desk, subscriber: int, email: str) -> None:
    """Somebody wants their mail at another address: the worker asks there, and it changes once confirmed there. Whether
    the address is known here makes no difference to what they are told."""
    email, now, db = email.strip(), desk.now(), desk.store.read()
    if (problem := syntax_problem(email)) is not None:
        raise Refused(f"“{email[:80]}” is not an address: {problem}.")
    person = subscribers.subscriber(db, subscriber)
    if person is None or person["email_key"] == address_key(email):
        raise Refused("Your mail goes to this address already.")
    if signups.changes_of(db, subscriber, now - DAY) >= CHANGES_A_DAY:
        raise Refused(f"At most {CHANGES_A_DAY} changes of address can be asked for in a day. Try again tomorrow.")
    if signups.changes_to(db, email, now - DAY) >= CHANGES_TO_ONE:
        return  # they were asked already
    with desk.store.atomic() as w:
        signups.ask_change(w, subscriber, email, now)


def _tend_changes(desk: Desk) -> int:
    """Ask at new addresses, and tell old ones that mail goes elsewhere now; how many mails went out."""
    db, now, sent, who = desk.store.read(), desk.now(), 0, str(desk.setting("name"))
    for row in signups.changes_due(db, now):
        link = f"{desk.setting('public_url')}/k/{Tokens(desk.folder).make('a', row['id'])}"
        text = (
            f"Mail of {who} is to come to this address from now on. If that is right, open this page and press its button:\n"
            f"{link}\n\nIf it was not you, do nothing: nothing changes.\n"
        )
        taken = send_text(desk, str(row["email"]), f"Confirm your new address for {who}", text)
        sent += taken
        with desk.store.atomic() as w:
            signups.change_mailed(w, row["id"], None if taken else now + LATER)
    for row in signups.changes_to_tell(db):
        text = (
            f"Mail of {who} that came here goes to another address from now on, as was asked for on the preference page "
            "and confirmed there. If that was not you, answer to this message.\n"
        )
        with desk.store.atomic() as w:  # once, whatever becomes of it
            signups.change_told(w, row["id"], now)
        sent += send_text(desk, str(row["before"]), f"Your address for {who} was changed", text)
    return sent


def change_address(desk: Desk, id: int) -> str:
    """The button at the new address; again does no harm. The new address."""
    row = signups.change(desk.store.read(), id)
    if row is None:
        raise Missing("This change is not there any more.")
    if row["done_at"]:
        return str(row["email"])
    key = address_key(row["email"])
    with desk.store.atomic() as db:
        if subscribers.ids_of(db, [key]):
            raise Refused("Somebody is here by this address already; write to us and we will put that right.")
        provider = providers.of_domain(db, key.rpartition("@")[2])
        before = subscribers.subscriber(db, row["subscriber"])
        if before is None or before["erased_at"]:
            raise Missing("This change is not there any more.")
        erased_table.keep_old(db, row["subscriber"], erasure.hashed(erased_table.make_key(db), before["email_key"]))
        signups.change_done(db, id, row["email"], key, provider, str(before["email"]), desk.now())
        subscribers.people_changed(db)
        workspace.log(db, desk.now(), "the subscriber", "changed address", f"subscriber {row['subscriber']}", 1)
    return str(row["email"])


def every(desk: Desk) -> dict[str, Any]:
    """All forms with their counts, joined and confirmed by day, and bursts that look made."""
    db, now = desk.store.read(), desk.now()
    days: dict[int, list[dict[str, Any]]] = {}
    for r in signups.by_day(db, now - 30 * DAY):
        states = ("day", "joined", "awaiting", "confirmed", "lapsed")
        days.setdefault(r["form"], []).append({state: r[state] for state in states})
    return {
        "forms": [
            {
                "id": f["id"],
                "list": f["list_name"],
                "purposes": json.loads(f["purposes"]),
                "intro": f["intro"],
                "ask_name": bool(f["ask_name"]),
                "confirm": bool(f["confirm"]),
                "reminders": json.loads(f["reminders"]),
                "is_open": bool(f["is_open"]),
                "mail_subject": f["mail_subject"],
                "mail_text": f["mail_text"],
                "joined": f["joined"],
                "awaiting": f["awaiting"],
                "confirmed": f["confirmed"],
                "lapsed": f["lapsed"],
                "days": days.get(f["id"], []),
            }
            for f in signups.forms(db)
        ],
        "bursts": [dict(r) for r in signups.bursts(db, now - DAY, BURST)]
        + [
            {"network": f"addresses like {p}", "n": len(some), "first": min(some)[0], "last": max(some)[0]}
            for p, some in _patterns(desk, now - DAY).items()
            if len(some) >= BURST and len({network for _, network in some}) > 1  # of one network it is shown above
        ],
    }
