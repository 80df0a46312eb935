"""The intake: bounce messages come back here by SMTP."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiosmtpd.controller import Controller


class _Handler:
    def __init__(self, take: Callable[[str, bytes], None]) -> None:
        self._take = take

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        for to in envelope.rcpt_tos:
            self._take(to, envelope.content)
        return "250 2.0.0 taken"


def listen(host: str, port: int, take: Callable[[str, bytes], None]) -> Any:
    """Start listening; ``take`` gets the return path and the message. The result has ``stop``."""
    controller = Controller(_Handler(take), hostname=host, port=port, data_size_limit=25 * 1024 * 1024)
    controller.start()
    return controller
