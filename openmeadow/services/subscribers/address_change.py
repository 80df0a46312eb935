"""A subscriber changes their own address: asked at the new one, announced at the old one. An analyst corrects one."""

from __future__ import annotations

from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY
from openmeadow.core.states import JobKind
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services import models
from openmeadow.services.subscribers import erasure
from openmeadow.services.subscribers.own_mail import LATER, send_text
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.health import providers
from openmeadow.store.subscribers import addresses as address_table
from openmeadow.store.subscribers import erasure as erased_table
from openmeadow.store.subscribers import signups, subscribers

CHANGES_A_DAY, CHANGES_TO_ONE = 3, 2  # of address: by one person, to one mailbox


def ask_new_address(workspace: Workspace, subscriber: SubscriberId, email: str) -> None:
    """Somebody wants their mail at another address: the worker asks there, and it changes once confirmed there. Whether
    the address is known here makes no difference to what they are told."""
    email, now, db = email.strip(), workspace.now(), workspace.store.read()
    if (problem := syntax_problem(email)) is not None:
        raise Refused(f"“{email[:80]}” is not a valid address: {problem}.")
    person = subscribers.subscriber(db, subscriber)
    if person is None or person.email_key == address_key(email):
        raise Refused("You already receive our emails at this address.")
    if signups.changes_of(db, subscriber, now - DAY) >= CHANGES_A_DAY:
        raise Refused(f"You can change your address at most {CHANGES_A_DAY} times a day. Try again tomorrow.")
    if signups.changes_to(db, email, now - DAY) >= CHANGES_TO_ONE:
        return  # they were asked already
    with workspace.store.atomic() as w:
        signups.ask_change(w, subscriber, email, now)


def correct(workspace: Workspace, subscriber: SubscriberId, email: str, who: str) -> int:
    """The analyst writes another address for a person; its verdict is asked anew. The action that undoes it."""
    email, db = email.strip(), workspace.store.read()
    if (problem := syntax_problem(email)) is not None:
        raise Refused(f"“{email[:80]}” is not a valid address: {problem}.")
    key, row = address_key(email), subscribers.subscriber(db, subscriber)
    if row is None or row.erased_at:
        raise Missing("This subscriber does not exist.")
    if row.email == email:
        raise Refused("This is their address already.")
    if key != row.email_key and subscribers.ids_of(db, [key]):
        raise Refused(f"{email} is another subscriber already.")
    if key in erasure.Erased(db):
        raise Refused(f"{email} was erased on request, so it cannot be used.")
    with workspace.store.atomic() as w:
        action = undo_log.begin(w, workspace.now(), who, "changed address", f"subscriber {subscriber}", 1, "addresses")
        undo_log.put_away(w, action, "address", [(subscriber, [row.email, row.email_key, row.provider])])
        provider = providers.of_domain(w, key.rpartition("@")[2])
        address_table.change_address(w, subscriber, email, key, provider)
        subscribers.people_changed(w)
        check = models.AddressesJob(
            choice=models.JobChoice(ids=(subscriber,)), ask_hosts=False, name="check of a changed address"
        )
        settings.add_job(w, JobKind.ADDRESSES, check.model_dump_json(), who, workspace.now())
    return action


def tend(workspace: Workspace) -> int:
    """Ask at new addresses, and tell old ones that mail goes elsewhere now; how many mails went out."""
    db, now, sent, who = workspace.store.read(), workspace.now(), 0, str(workspace.setting("name"))
    for row in signups.changes_due(db, now):
        link = f"{workspace.setting('public_url')}/k/{Tokens(workspace.folder).make('a', row.id)}"
        text = (
            f"You asked us to send the emails of {who} to this address. To confirm, open this page and click the button:\n"
            f"{link}\n\nIf this wasn't you, ignore this email. Nothing changes.\n"
        )
        taken = send_text(workspace, str(row.email), f"Confirm your new address for {who}", text)
        sent += taken
        with workspace.store.atomic() as w:
            signups.change_mailed(w, row.id, None if taken else now + LATER)
    for row in signups.changes_to_tell(db):
        text = (
            f"The emails of {who} now go to another address, as requested and confirmed on the preference page. "
            "If this wasn't you, reply to this email.\n"
        )
        with workspace.store.atomic() as w:  # once, whatever becomes of it
            signups.change_announced(w, row.id, now)
        sent += send_text(workspace, str(row.before), f"Your address for {who} was changed", text)
    return sent


def change_address(workspace: Workspace, row_id: int) -> str:
    """The button at the new address; again does no harm. The new address."""
    row = signups.change(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This change has expired.")
    if row.done_at:
        return str(row.email)
    key = address_key(row.email)
    with workspace.store.atomic() as db:
        if subscribers.ids_of(db, [key]):
            raise Refused("This address is already registered. Please contact us.")
        provider = providers.of_domain(db, key.rpartition("@")[2])
        before = subscribers.subscriber(db, row.subscriber)
        if before is None or before.erased_at:
            raise Missing("This change has expired.")
        erased_table.save_old(db, row.subscriber, erasure.hashed(erased_table.make_key(db), before.email_key))
        signups.change_done(db, row_id, row.email, key, provider, str(before.email), workspace.now())
        subscribers.people_changed(db)
        settings.log(db, workspace.now(), "the subscriber", "changed address", f"subscriber {row.subscriber}", 1)
    return str(row.email)
