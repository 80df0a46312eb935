"""Free ports for the processes of a demo."""

from __future__ import annotations

import itertools
import random
import socket

_PORTS = itertools.count(random.SystemRandom().randrange(10_000))


def free_port() -> int:
    """A port nothing on this machine uses, neither by TCP nor by UDP, and never the same twice in a process.

    It lies below the range from which systems give ports to outgoing connections (32,768 and up), so that no
    connection opened between this answer and its use can take it.
    """
    while True:
        port = 20_000 + next(_PORTS) * 7 % 12_000
        with socket.socket() as tcp, socket.socket(type=socket.SOCK_DGRAM) as udp:
            try:
                tcp.bind(("127.0.0.1", port))
                udp.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
