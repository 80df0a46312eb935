"""The intake's SMTP server: takes mail for our own addresses alone, within limits, and does nothing else with it."""

from __future__ import annotations

import time
from collections import OrderedDict, deque
from collections.abc import Callable

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from openmeadow.core.errors import MeadowError
from openmeadow.core.reports.limits import INTAKE_BYTES, INTAKE_PER_MINUTE, INTAKE_RECIPIENTS

MOST_HOSTS = 10_000  # whose rate is remembered


class _Handler:
    """``accepts`` says of an address whether it is ours; ``take`` keeps (sender, recipient, message)."""

    def __init__(self, accepts: Callable[[str], bool], take: Callable[[str, str, bytes], None], a_minute: int) -> None:
        self._accepts, self._take, self._a_minute = accepts, take, a_minute
        self._came: OrderedDict[str, deque[float]] = OrderedDict()

    def _too_many(self, host: str) -> bool:
        """Whether a host has sent more than it may within the last minute."""
        now, times = time.monotonic(), self._came.setdefault(host, deque())
        self._came.move_to_end(host)
        while len(self._came) > MOST_HOSTS:
            self._came.popitem(last=False)
        while times and times[0] < now - 60:
            times.popleft()
        times.append(now)
        return len(times) > self._a_minute

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if len(envelope.rcpt_tos) >= INTAKE_RECIPIENTS:
            return f"452 4.5.3 at most {INTAKE_RECIPIENTS} recipients per message"
        if not self._accepts(address):
            return "550 5.1.1 no such address here"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 ok"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self._too_many(str(session.peer[0]) if session.peer else ""):
            return "451 4.7.0 too many messages, try again later"
        try:
            for to in envelope.rcpt_tos:
                self._take((envelope.mail_from or "").strip("<>"), to, envelope.content)
        except MeadowError:
            return "451 4.3.0 temporarily unavailable, try again later"
        return "250 2.0.0 accepted"


class _Controller(Controller):  # type: ignore[misc]
    def factory(self) -> SMTP:
        limits: dict[str, int | float] = {"data_size_limit": INTAKE_BYTES, "timeout": 60}
        return SMTP(self.handler, ident="Open Meadow intake", enable_SMTPUTF8=True, **limits)


def listen(
    host: str,
    port: int,
    accepts: Callable[[str], bool],
    take: Callable[[str, str, bytes], None],
    a_minute: int = INTAKE_PER_MINUTE,
) -> Controller:
    """Start listening; the result has ``stop``. Raises ``OSError`` where the port is taken."""
    controller = _Controller(_Handler(accepts, take, a_minute), hostname=host, port=port)
    try:
        controller.start()
    except OSError:
        controller.loop.close()  # the library leaves it open
        raise
    return controller
