"""The intake: takes mail for our own addresses, and acts only on what carries a signature of ours."""

from __future__ import annotations

import re
import threading
from typing import Any

import structlog

from openmeadow.core.authentication.dmarc import organisational_domain
from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.reports.limits import ASIDE_KEPT, INTAKE_WAITING
from openmeadow.core.reports.mail import Unreadable
from openmeadow.desk import reports, round_trip
from openmeadow.desk.desk import Desk
from openmeadow.desk.senders import return_domain
from openmeadow.store import intake as table
from openmeadow.store import senders
from openmeadow.wire import smtp_server
from openmeadow.wire.parser_process import ParserProcess
from openmeadow.wire.tokens import Tokens

log = structlog.get_logger()
DAY = 86_400
REPORT_BOXES = {"dmarc", "abuse", "complaints", "fbl", "postmaster"}
_PROOF = re.compile(r"proof-\d+-[0-9a-f]{12}@", re.I)


class Intake:
    """Listens, keeps what comes, and reads it beside the loop that sends."""

    def __init__(self, desk: Desk, tokens: Tokens, host: str, port: int) -> None:
        self.desk, self.tokens = desk, tokens
        self._parser, self._came, self._ends = ParserProcess(), threading.Event(), threading.Event()
        self._reading = threading.Lock()
        self._server = smtp_server.listen(host, port, self.accepts, self._take)
        self._thread = threading.Thread(target=self._go_on, name="intake", daemon=True)
        self._thread.start()

    def accepts(self, address: str) -> bool:
        """Whether an address is ours: signed here, or a box for reports, at a domain we send from."""
        local, _, domain = address.lower().rpartition("@")
        ours = [str(d["name"]) for d in senders.domains(self.desk.store.read())]
        if domain in {return_domain(name) for name in ours}:
            if self.tokens.delivery_of(address) is not None or self.tokens.unsubscribing(address) is not None:
                return True
            if _PROOF.match(address):
                return round_trip.is_ours(self.tokens, address)
        places = {return_domain(name) for name in ours} | set(ours) | {organisational_domain(name) for name in ours}
        return domain in places and local in REPORT_BOXES

    def _take(self, sender: str, to: str, raw: bytes) -> None:
        if table.waiting(self.desk.store.read()) >= INTAKE_WAITING:
            raise Refused("Too much mail waits to be read.")
        with self.desk.store.atomic() as db:
            table.add(db, self.desk.now(), to, sender, raw)
        self._came.set()

    def _go_on(self) -> None:
        while not self._ends.is_set():
            self._came.wait(5)
            self._came.clear()
            try:
                self.drain()
            except Exception:
                log.exception("the intake could not go on")
                self._ends.wait(5)

    def drain(self) -> int:
        """Read all that waits; how many messages. One that cannot be read is set aside, and the next is read."""
        n = 0
        with self._reading:
            while not self._ends.is_set() and (mail := table.next_mail(self.desk.store.read())) is not None:
                self._one(mail)
                n += 1
        return n

    def _one(self, mail: table.QueuedMail) -> None:
        try:
            why = self._act(mail)
        except Unreadable as e:
            why = str(e)
        except MeadowError as e:
            log.warning("the intake waits", reason=str(e))
            raise
        except Exception:
            log.exception("mail could not be taken in", id=mail.id)
            why = "Something went wrong inside; the log names this message."
        with self.desk.store.atomic() as db:
            if why:
                table.set_aside(db, mail, why, ASIDE_KEPT)
            table.done(db, mail.id)

    def _act(self, mail: table.QueuedMail) -> str:
        """What a message leads to; the reason why nothing, where it leads to nothing."""
        desk, tokens, to = self.desk, self.tokens, mail.recipient
        if tokens.unsubscribing(to) is not None:
            if not mail.sender:
                return "A bounce came to the address that unsubscribes; nothing was done."
            return (
                ""
                if reports.unsubscribe_by_mail(desk, tokens, to)
                else "The message that it answers is not there any more."
            )
        if round_trip.came_back(desk, tokens, to, mail.raw):
            return ""
        found = self._parser.parse(mail.raw)
        return reports.take_signed(desk, tokens, to, mail.raw, found, mail.at)

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


def tidy(desk: Desk) -> int:
    """Raw mail older than the workspace keeps it is removed."""
    with desk.store.atomic() as db:
        return table.forget_raw(db, desk.now() - int(desk.setting("raw_mail_kept_days")) * DAY)


def aside(desk: Desk) -> dict[str, Any]:
    """What was set aside: by reason, and the latest messages."""
    db = desk.store.read()
    return {
        "reasons": [dict(r) for r in table.aside_by_reason(db)],
        "latest": [dict(r) for r in table.aside(db, 20)],
        "waiting": table.waiting(db),
    }
