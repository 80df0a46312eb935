"""The HTTP server, with limits that a stranger cannot pass: connections, silence, headers, bodies."""

from __future__ import annotations

import contextlib
import ctypes
import logging
import resource
import threading
import time
from collections.abc import Callable
from http.cookies import CookieError, SimpleCookie

import waitress
from flask import Flask
from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer

from openmeadow.services import accounts
from openmeadow.services.campaigns.arrivals import Arrivals
from openmeadow.services.workspace import Workspace
from openmeadow.store import users as table
from openmeadow.store.users import Session, Token
from openmeadow.web import limits
from openmeadow.web.public.open_image import PATH
from openmeadow.web.router import COOKIE

THREADS = 8
DRAIN = 30.0  # seconds for the answers under way when it is told to stop


MMAP_THRESHOLD, TRIM_THRESHOLD, ARENA_MAX = -3, -1, -8  # of mallopt(3)


def _return_memory() -> None:
    """Large arrays go back to the system when they are done with: by itself the C library keeps those of up to 32 MB,
    and some for every thread."""
    with contextlib.suppress(OSError, AttributeError):  # another C library
        library = ctypes.CDLL(None)
        library.mallopt(ARENA_MAX, 1)
        library.mallopt(MMAP_THRESHOLD, 1 << 22)
        library.mallopt(TRIM_THRESHOLD, 1 << 25)


class DrainingServer(TcpWSGIServer):  # type: ignore[misc]
    """Told to stop, it takes no more connections, answers what it has been asked, and ends."""

    _stopping, _thread = False, 0

    def stop(self) -> None:
        """End once every request under way is answered, at the latest after DRAIN seconds. May be called by a signal."""
        self._stopping = True
        super().pull_trigger()

    @property
    def is_busy(self) -> bool:
        """Whether anything is being answered."""
        return bool(self.task_dispatcher.queue) or self.task_dispatcher.active_count > 0

    def pull_trigger(self) -> None:
        """Wake the thread that looks at the connections, where it is not the one that asks."""
        if threading.get_ident() != self._thread:
            super().pull_trigger()

    def run(self) -> None:
        """Until it is told to stop."""
        self._thread = threading.get_ident()
        while not self._stopping:
            self._look(1.0)
        self.del_channel(self._map)
        self.socket.close()
        end = time.monotonic() + DRAIN
        while time.monotonic() < end and any(c.requests or c.total_outbufs_len for c in self.active_channels.values()):
            self._look(0.1)
        self.task_dispatcher.shutdown()

    def close(self) -> None:
        """After its end: connections that are left, and what wakes it."""
        self.asyncore.close_all(self._map)

    def _look(self, seconds: float) -> None:
        self.asyncore.loop(timeout=seconds, map=self._map, use_poll=self.adj.asyncore_use_poll, count=1)


def _may_upload(workspace: Workspace) -> Callable[[dict[str, str]], bool]:
    """Whether a body over the usual limit comes from an account, told from the headers before it is read."""

    def may_upload(headers: dict[str, str]) -> bool:
        scheme, _, secret = headers.get("AUTHORIZATION", "").partition(" ")
        if scheme.lower() == "bearer":
            holder: Session | Token | None = accounts.by_token(workspace, secret.strip())
        else:
            try:
                cookie = SimpleCookie(headers.get("COOKIE", "")).get(COOKIE)
            except CookieError:
                return False
            holder = accounts.session_of(workspace, cookie.value) if cookie is not None else None
        user = table.user(workspace.store.read(), holder.user) if holder else None
        return user is not None and user.role != "observer"

    return may_upload


def _server_class(workspace: Workspace, uploads: frozenset[str]) -> type[DrainingServer]:
    """A server that knows the limits of bodies, and answers opens by itself while there are many."""
    arrivals = workspace.part(Arrivals)

    class Channel(HTTPChannel):  # type: ignore[misc]
        parser_class = limits.parser(uploads, _may_upload(workspace))
        is_quick = False  # the next request is answered at once, by the thread that has read it

        def received(self, data: bytes) -> bool:
            """Take what the client sends, and answer it where no other thread is needed for that."""
            taken: bool = super().received(data)
            while self.is_quick:
                self.is_quick = False
                self.service()
            return taken

    class Server(DrainingServer):
        channel_class = Channel

        def add_task(self, task: Channel) -> None:
            """Have a connection's next request answered: an open of many costs less than handing it to another thread."""
            request = task.requests[0]
            if (
                arrivals.are_many
                and threading.get_ident() == self._thread
                and not request.error
                and request.command in ("GET", "HEAD")
                and request.path.startswith(PATH)
            ):
                task.is_quick = True
            else:
                super().add_task(task)

    return Server


def make_server(app: Flask, workspace: Workspace, host: str, port: int) -> DrainingServer:
    """A server that is bound but does not run yet; OSError where the port is taken."""
    described = app.extensions["described"]
    uploads = frozenset(r.template for r in described.routes if r.upload is not None)
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)  # a line for each request that waits, many a second

    _return_memory()
    allowed, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    with contextlib.suppress(ValueError, OSError):
        wanted = limits.CONNECTIONS + 512
        resource.setrlimit(resource.RLIMIT_NOFILE, (max(allowed, min(wanted, most)), most))
    allowed = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    adj = waitress.adjustments.Adjustments(
        host=host,
        port=port,
        threads=THREADS,
        ident="Open Meadow",
        clear_untrusted_proxy_headers=True,
        trusted_proxy="127.0.0.1",
        trusted_proxy_headers={"x-forwarded-for", "x-forwarded-proto"},
        connection_limit=max(100, min(limits.CONNECTIONS, allowed - 256)),
        channel_timeout=limits.SILENT_SECONDS,
        cleanup_interval=5,
        asyncore_use_poll=True,
        max_request_header_size=limits.LONGEST_HEADER,
        max_request_body_size=limits.LARGEST_UPLOAD,
    )
    if len(adj.listen) != 1:  # a name with several addresses: the first
        adj.listen = adj.listen[:1]
    return _server_class(workspace, uploads)(app, adj=adj, sockinfo=adj.listen[0])
