"""Joining by a form: asked twice, mailed only to be asked, forgotten when nobody confirms; and changing an address."""

from __future__ import annotations

import ipaddress
import json
import re
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass

from openmeadow.core.addresses.aliases import alias_rules, mailbox
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.consent.eligibility import GIVEN, PENDING, SUPPRESSION_REASONS, ask
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.moments import DAY, HOUR
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services import models
from openmeadow.services.subscribers import address_change, consent, erasure
from openmeadow.services.subscribers.own_mail import LATER, send_text
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.health import providers
from openmeadow.store.rows import Values
from openmeadow.store.subscribers import consent as evidence
from openmeadow.store.subscribers import erasure as erased_table
from openmeadow.store.subscribers import signups, subscribers
from openmeadow.store.subscribers.records import FormSignup, NewSubscriber

EXPIRE_DAYS = 21
SLOW_WINDOW, SLOW_AFTER = HOUR, 8  # from one network, unconfirmed
BURST = 5
MOST_OF_ONE = 3  # sign-ups of one mailbox within a day
MOST_REMINDERS = 2
COMPLAINED = 1 + SUPPRESSION_REASONS.index("complaint")
LINK = "{{ link }}"


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
    """An address without what stands after a plus sign: most mail servers take it for the same mailbox."""
    local, _, domain = key.rpartition("@")
    return f"{local.partition('+')[0] or local}@{domain}"


def _patterns(workspace: Workspace, since: int) -> dict[str, list[tuple[int, str]]]:
    """(moment, network) of unconfirmed sign-ups by the pattern of their addresses."""
    out: dict[str, list[tuple[int, str]]] = {}
    for r in signups.unconfirmed(workspace.store.read(), since):
        if pattern := pattern_of(r.email_key):
            out.setdefault(pattern, []).append((int(r.at), str(r.network)))
    return out


def write_form(workspace: Workspace, values: models.FormIn, who: str) -> int:
    """Make or change the form of a list."""
    list_name, reminders = values.list_name.strip(), values.reminders
    if not list_name:
        raise Refused("A form needs the name of its list.")
    if not values.purposes:
        raise Refused("Choose at least one purpose.")
    if len(reminders) > MOST_REMINDERS:
        raise Refused(f"At most {MOST_REMINDERS} reminders are sent.")
    if any(not 0 < d < EXPIRE_DAYS for d in reminders) or sorted(reminders) != reminders:
        raise Refused(f"Reminders are in ascending order, between 1 and {EXPIRE_DAYS - 1} days after the sign-up.")
    text = values.mail_text.strip()
    if text and LINK not in text:
        raise Refused(f"The confirmation email needs {LINK} where the link should be.")
    with workspace.store.atomic() as db:
        list_id, _ = subscribers.named(db, "lists", list_name)
        known = {p.id for p in evidence.purposes(db)}
        if not set(values.purposes) <= known:
            raise Refused("This purpose does not exist any more.")
        form: Values = {
            "purposes": json.dumps(values.purposes),
            "intro": values.intro,
            "ask_name": values.ask_name,
            "confirm": values.confirm,
            "reminders": json.dumps(reminders),
            "is_open": values.is_open,
            "mail_subject": " ".join(values.mail_subject.split()),
            "mail_text": text,
        }
        row_id = signups.save_form(db, list_id, form)
        settings.log(db, workspace.now(), who, "saved sign-up form", list_name)
    return row_id


@dataclass(frozen=True)
class OfferedPurpose:
    """A purpose as a public page shows it, with the wording that is on it."""

    id: PurposeId
    name: str
    text: str
    wording_id: int | None


@dataclass(frozen=True)
class FormPage:
    """What the page of a list's form shows; ``who`` is the workspace's name."""

    id: int
    list_name: str
    intro: str
    ask_name: bool
    confirm: bool
    purposes: list[OfferedPurpose]
    who: str


def form(workspace: Workspace, list_name: str) -> FormPage:
    """The form of a list. Missing where it has none, or is closed."""
    db = workspace.store.read()
    row = signups.form_of_list(db, list_name)
    if row is None or not row.is_open:
        raise Missing("Sign-up for this list is closed.")
    shown = [
        OfferedPurpose(p.id, p.name, p.text or "", p.wording_id)
        for p in evidence.purposes(db)
        if p.id in row.purposes and not p.retired
    ]
    return FormPage(row.id, row.list_name, row.intro, row.ask_name, row.confirm, shown, str(workspace.setting("name")))


def _not_too_often(workspace: Workspace, key: str, network: str, now: int) -> None:
    """Refuse a burst from one network, of one mailbox, or of one pattern; the same for known and unknown addresses."""
    if network and signups.from_network(workspace.store.read(), network, now - SLOW_WINDOW) >= SLOW_AFTER:
        raise Refused("Too many sign-ups from your network. Try again in an hour.")
    aliases = alias_rules(workspace.setting("alias_rules"))
    target = mailbox(_target_of(key), aliases)
    same = [k for k in signups.keys_since(workspace.store.read(), now - DAY) if mailbox(_target_of(k), aliases) == target]
    if len(same) >= MOST_OF_ONE:
        raise Refused("Too many sign-ups like this one today. Try again tomorrow.")
    if len(_patterns(workspace, now - SLOW_WINDOW).get(pattern_of(key), ())) >= SLOW_AFTER:
        raise Refused("Too many sign-ups like this one. Try again in an hour.")


LONGEST_NAME = 200


def join(
    workspace: Workspace,
    list_name: str,
    email: str,
    name: str,
    purposes: list[PurposeId],
    ip: str,
    shown: Mapping[int, int] | None = None,
    page: str = "",
) -> None:
    """Take a sign-up. Who is there already and who is new get the same answer; nothing is mailed but the
    question whether it was them. ``shown`` are the wordings that stood on its page, by purpose."""
    f, email = form(workspace, list_name), email.strip()
    if (problem := syntax_problem(email)) is not None:
        raise Refused(f"“{email[:80]}” is not a valid address: {problem}. Please check it.")
    wanted = [p.id for p in f.purposes if p.id in purposes]
    if not wanted:
        raise Refused("Choose at least one topic.")
    now, network, key = workspace.now(), network_of(ip), address_key(email)
    _not_too_often(workspace, key, network, now)
    with workspace.store.atomic() as db:
        hash_key = erased_table.key(db)
        if hash_key:  # somebody erased who comes back by themselves
            erased_table.forget_hash(db, erasure.hashed(hash_key, key))
        if not subscribers.ids_of(db, [key]):  # a stranger changes nothing about who is here already
            subscribers.upsert(db, [_stranger(db, email, key, name, f.list_name, now)])
        row_id = subscribers.ids_of(db, [key])[key]
        there = signups.pending_of(db, f.id, row_id)
        if there is not None:
            return
        kept = {p: (shown or {}).get(p) for p in wanted}
        signup = signups.add(db, f.id, row_id, wanted, now, network, now if f.confirm else None, kept, page)
    if f.confirm:
        list_id = _list_id(workspace, f.list_name)
        for purpose in wanted:
            if not _has_given(workspace, row_id, purpose):
                shown_as = kept[purpose]
                consent.said(workspace, row_id, purpose, PENDING, "form", list_id, wording=shown_as, form=f.id, page=page)
    else:
        _confirmed(workspace, signup, "form")


def _stranger(db: sqlite3.Connection, email: str, key: str, name: str, source: str, now: int) -> NewSubscriber:
    """Somebody who signed up and is not here yet."""
    return NewSubscriber(
        email=email,
        key=key,
        name=name.strip()[:LONGEST_NAME] or None,
        joined_at=None,
        now=now,
        time_zone=None,
        language=None,
        country=None,
        provider=providers.of_domain(db, key.rpartition("@")[2]),
        fields="{}",
        source=subscribers.named(db, "sources", source)[0],
        action=None,
    )


def _list_id(workspace: Workspace, name: str) -> int:
    return next(int(r.id) for r in subscribers.names(workspace.store.read(), "lists") if r.name == name)


def _has_given(workspace: Workspace, subscriber: SubscriberId, purpose: PurposeId) -> bool:
    return evidence.latest(workspace.store.read(), subscriber, purpose) == GIVEN


def confirm(workspace: Workspace, signup: int) -> str:
    """What pressing the button does; again does no harm. The list's name."""
    row = signups.one(workspace.store.read(), signup)
    if row is None:
        raise Missing("This sign-up has expired.")
    if row.state != "confirmed":
        _confirmed(workspace, signup, "confirmation link")
    return str(row.list_name)


def agrees_to(workspace: Workspace, signup: int) -> list[tuple[str, str]]:
    """What confirming says yes to: each purpose with the wording that the form showed."""
    row, db = signups.one(workspace.store.read(), signup), workspace.store.read()
    if row is None or row.state == "confirmed":
        return []
    names = {p.id: p.name for p in evidence.purposes(db)}
    shown = json.loads(row.shown)
    out = []
    for purpose in row.purposes:
        wording = evidence.wording(db, shown.get(str(purpose)) or 0)
        out.append((str(names.get(purpose, "")), str(wording.text) if wording else ""))
    return out


def _confirmed(workspace: Workspace, signup: int, method: str) -> None:
    row = signups.one(workspace.store.read(), signup)
    assert row is not None
    shown = json.loads(row.shown)
    for purpose in row.purposes:
        consent.said(
            workspace,
            row.subscriber,
            purpose,
            GIVEN,
            method,
            row.list_id,
            wording=shown.get(str(purpose)),
            form=row.form,
            page=row.page,
        )
    with workspace.store.atomic() as db:
        signups.confirmed(db, signup, workspace.now())
        subscribers.add_members(db, [(row.list_id, row.subscriber, workspace.now(), None)])


def tend(workspace: Workspace) -> int:
    """Mail what is due to those who await, and let lapse who never confirmed; how many mails went out."""
    db, now, sent = workspace.store.read(), workspace.now(), address_change.tend(workspace)
    with workspace.store.atomic() as w:
        expired = signups.expire(w, now - EXPIRE_DAYS * DAY)
    for row in expired:
        for purpose in row.purposes:
            if evidence.latest(db, row.subscriber, purpose) == PENDING:
                before = evidence.latest(db, row.subscriber, purpose, other_than=PENDING)
                consent.said(workspace, row.subscriber, purpose, before, "form")  # a no stays a no
    for row_id in signups.due(db, now):
        signup = signups.one(db, row_id)
        assert signup is not None
        days = [0, *signup.reminders[:MOST_REMINDERS]]
        n = signup.mails
        once = _looks_made(workspace, signup) or _has_complained(workspace, signup)
        ahead = [] if once else [signup.at + d * DAY for d in days[n + 1 :]]
        if once and n:  # asked once, and left alone
            with workspace.store.atomic() as w:
                signups.put_off(w, row_id, None)
            continue
        if _may_be_asked(workspace, signup) and not _mail(workspace, signup, n):
            with workspace.store.atomic() as w:
                signups.put_off(w, row_id, now + LATER)
            continue
        sent += 1
        with workspace.store.atomic() as w:
            signups.mailed(w, row_id, ahead[0] if ahead else None)
    return sent


def _looks_made(workspace: Workspace, signup: FormSignup) -> bool:
    """Whether a sign-up came among many from its network, or of its pattern, within a day: such ones are asked once."""
    db, around = workspace.store.read(), (signup.at - DAY, signup.at + DAY)
    if signup.network and signups.around(db, signup.network, *around) >= BURST:
        return True
    person = subscribers.subscriber(db, signup.subscriber)
    pattern = pattern_of(str(person.email_key)) if person else ""
    return bool(pattern) and len(_patterns(workspace, around[0]).get(pattern, ())) >= BURST


def _has_complained(workspace: Workspace, signup: FormSignup) -> bool:
    """Who complained once and asks to come back is asked whether it was them, once."""
    return evidence.is_suppressed_for(workspace.store.read(), signup.subscriber, COMPLAINED)


def _may_be_asked(workspace: Workspace, signup: FormSignup) -> bool:
    """The eligibility check, for a confirmation."""
    view = workspace.view()
    at = workspace.index_of(view, signup.subscriber)
    names = {p.id: p.name for p in evidence.purposes(workspace.store.read())}
    facts = view.facts
    return any(
        bool(ask(facts.standing(names[p], limits=False), "confirmation").permitted[at])  # type: ignore[attr-defined]
        for p in signup.purposes
    )


def _mail(workspace: Workspace, signup: FormSignup, n: int) -> bool:
    person = subscribers.subscriber(workspace.store.read(), signup.subscriber)
    if person is None or person.erased_at:
        return True
    who = str(workspace.setting("name"))
    link = f"{workspace.setting('public_url')}/k/{Tokens(workspace.folder).make('s', signup.id)}"
    opening = (
        f"Someone (probably you) signed up for {signup.list_name} of {who} with this address."
        if n == 0
        else f"You signed up for {signup.list_name} of {who} but have not confirmed yet."
    )
    last = "\nThis is our last reminder." if n and n == len(signup.reminders) else ""
    text = (
        f"{opening}\n\nTo confirm, open this page and click the button:\n{link}\n\nIf this wasn't you, ignore "
        f"this email.{last}\n"
    )
    subject = f"Please confirm: {signup.list_name}" if n == 0 else f"Reminder: please confirm {signup.list_name}"
    if signup.mail_text:
        words = {LINK: link, "{{ list }}": signup.list_name, "{{ name }}": str(person.name or "")}
        text = signup.mail_text
        for hole, word in words.items():
            text = text.replace(hole, word)
        text += last
    if signup.mail_subject:
        subject = signup.mail_subject if n == 0 else f"Reminder: {signup.mail_subject}"
    return send_text(workspace, str(person.email), subject, text)


def every(workspace: Workspace) -> tuple[list[models.FormLine], list[models.Burst]]:
    """All forms with their counts, joined and confirmed by day, and bursts that look made."""
    db, now = workspace.store.read(), workspace.now()
    days: dict[int, list[models.FormDay]] = {}
    for r in signups.by_day(db, now - 30 * DAY):
        days.setdefault(r.form, []).append(models.FormDay.read_from(r))
    similar = [
        models.Burst(network=f"addresses like {p}", n=len(some), first=min(some)[0], last=max(some)[0])
        for p, some in _patterns(workspace, now - DAY).items()
        if len(some) >= BURST and len({network for _, network in some}) > 1  # of one network it is shown above
    ]
    forms = [
        models.FormLine(
            id=f.id,
            list_name=f.list_name,
            purposes=f.purposes,
            intro=f.intro,
            ask_name=f.ask_name,
            confirm=f.confirm,
            reminders=f.reminders,
            is_open=f.is_open,
            mail_subject=f.mail_subject,
            mail_text=f.mail_text,
            joined=f.joined,
            pending=f.pending,
            confirmed=f.confirmed,
            expired=f.expired,
            days=days.get(f.id, []),
        )
        for f in signups.forms(db)
    ]
    return forms, [models.Burst.read_from(r) for r in signups.bursts(db, now - DAY, BURST)] + similar
