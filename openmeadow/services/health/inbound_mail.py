"""The intake: takes mail for our own addresses, and acts only on what carries a signature of ours."""

from __future__ import annotations

import re
import threading

import structlog

from openmeadow.core.authentication.dmarc import organisational_domain
from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.moments import DAY
from openmeadow.core.reports.limits import ASIDE_KEPT, INTAKE_WAITING
from openmeadow.core.reports.mail import Unreadable
from openmeadow.net import smtp_server
from openmeadow.net.parser_process import ParserProcess
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services import models
from openmeadow.services.health import bounce_intake
from openmeadow.services.senders import round_trip_test
from openmeadow.services.workspace import Workspace
from openmeadow.store.health import inbound_mail as table
from openmeadow.store.senders import senders

log = structlog.get_logger()
REPORT_BOXES = {"dmarc", "abuse", "complaints", "fbl", "postmaster"}
_PROOF = re.compile(r"proof-\d+-[0-9a-f]{12}@", re.I)


class Intake:
    """Listens, keeps what comes, and reads it beside the loop that sends."""

    def __init__(self, workspace: Workspace, tokens: Tokens, host: str, port: int) -> None:
        self.workspace, self.tokens = workspace, tokens
        self._parser, self._came, self._ends = ParserProcess(), threading.Event(), threading.Event()
        self._reading = threading.Lock()
        self._server = smtp_server.listen(host, port, self.accepts, self._take)
        self._thread = threading.Thread(target=self._go_on, name="intake", daemon=True)
        self._thread.start()

    def accepts(self, address: str) -> bool:
        """Whether an address is ours: signed here, or a box for reports, at a domain we send from."""
        local, _, domain = address.lower().rpartition("@")
        ours = [str(d.name) for d in senders.domains(self.workspace.store.read(), removed_too=True)]
        if domain in {return_domain(name) for name in ours}:
            if self.tokens.delivery_of(address) is not None or self.tokens.unsubscribing(address) is not None:
                return True
            if _PROOF.match(address):
                return round_trip_test.is_ours(self.tokens, address)
        places = {return_domain(name) for name in ours} | set(ours) | {organisational_domain(name) for name in ours}
        return domain in places and local in REPORT_BOXES

    def _take(self, sender: str, to: str, raw: bytes) -> None:
        if table.waiting(self.workspace.store.read()) >= INTAKE_WAITING:
            raise Refused("Too much mail is queued. Try again later.")
        with self.workspace.store.atomic() as db:
            table.add(db, self.workspace.now(), to, sender, raw)
        self._came.set()

    def _go_on(self) -> None:
        while not self._ends.is_set():
            self._came.wait(5)
            self._came.clear()
            try:
                self.drain()
            except Exception:
                log.exception("the intake stopped")
                self._ends.wait(5)

    def drain(self) -> int:
        """Read all that waits; how many messages. One that cannot be read is set aside, and the next is read."""
        n = 0
        with self._reading:
            while not self._ends.is_set() and (mail := table.next_mail(self.workspace.store.read())) is not None:
                self._one(mail)
                n += 1
        return n

    def _one(self, mail: table.QueuedMail) -> None:
        try:
            why = self._act(mail)
        except Unreadable as e:
            why = str(e)
        except MeadowError as e:
            log.warning("the intake is waiting", reason=str(e))
            raise
        except Exception:
            log.exception("mail could not be processed", id=mail.id)
            why = "Internal error; the log names this message."
        with self.workspace.store.atomic() as db:
            if why:
                table.set_aside(db, mail, why, ASIDE_KEPT)
            table.done(db, mail.id)

    def _act(self, mail: table.QueuedMail) -> str:
        """What a message leads to; the reason why nothing, where it leads to nothing."""
        workspace, tokens, to = self.workspace, self.tokens, mail.recipient
        if tokens.unsubscribing(to) is not None:
            if not mail.sender:
                return "A bounce to the unsubscribe address; ignored."
            return (
                ""
                if bounce_intake.unsubscribe_by_mail(workspace, tokens, to)
                else "The message it refers to does not exist any more."
            )
        if round_trip_test.came_back(workspace, tokens, to, mail.raw):
            return ""
        found = self._parser.parse(mail.raw)
        return bounce_intake.take_signed(workspace, tokens, to, mail.raw, found, mail.at)

    def stop(self) -> None:
        """Stop listening; what has come is read first."""
        self._server.stop()
        try:
            self.drain()
        finally:
            self._ends.set()
            self._came.set()
            self._thread.join(timeout=5)
            self._parser.close()


def tidy(workspace: Workspace) -> int:
    """Raw mail older than the workspace keeps it is removed."""
    with workspace.store.atomic() as db:
        return table.forget_raw(db, workspace.now() - int(workspace.setting("raw_mail_kept_days")) * DAY)


def aside(workspace: Workspace) -> models.InboundView:
    """What was set aside: by reason, and the latest messages."""
    db = workspace.store.read()
    return models.InboundView(
        reasons=[models.AsideReason.read_from(r) for r in table.aside_by_reason(db)],
        latest=[models.AsideMail.read_from(r) for r in table.aside(db, 20)],
        waiting=table.waiting(db),
    )
