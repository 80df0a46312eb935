"""Plain messages that the workspace itself writes: confirmations, changes of address, alerts."""

from __future__ import annotations

import secrets

from openmeadow.core.authentication import dkim
from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Said
from openmeadow.services.senders.relay import relay
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders

LATER = 1800  # a mail that the relay did not take is tried again


def send_text(workspace: Workspace, to: str, subject: str, text: str) -> bool:
    """A plain message from the first confirmed from address that can sign; False when it could not be sent."""
    db = workspace.store.read()
    row = senders.ready_address(db)
    if row is None or not row.private_key:
        return False
    now, domain = workspace.now(), str(row.domain_name)
    mark = f"<ask.{secrets.token_hex(8)}@{domain}>"
    postal = str(workspace.setting("postal_address"))
    said = Said(subject, "", f"{text}\n{postal}\n" if postal else text)
    message = assemble(said, Envelope(str(workspace.setting("name")), str(row.address), to, mark, now))
    message = dkim.sign(message, domain, row.selector, row.private_key, now)
    out = relay(workspace)
    try:
        return out.submit(f"ask@{return_domain(domain)}", to, message).outcome == "taken"
    finally:
        out.close()
