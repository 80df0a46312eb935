"""How much a stranger or a colleague may send: by route, and before it is read."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

from waitress.parser import HTTPRequestParser
from waitress.utilities import Error, RequestEntityTooLarge

LARGEST_ID = 2**63 - 1
LARGEST_PUBLIC = 64 * 1024  # octets: forms of the public pages, sign-in
LARGEST_JSON = 5 * 1024**2
LARGEST_UPLOAD = 1024**3
CONNECTIONS = 2_000
SILENT_SECONDS = 20  # a connection that says nothing, or says it too slowly, is closed
LONGEST_HEADER = 256 * 1024  # a rule may stand in the address
_OPEN = ("/api/sign-in", "/api/set-password")
_NUMBER = re.compile(r"(?<=/)\d+(?=/|$)")


def largest_body(path: str, uploads: frozenset[str]) -> int:
    """Octets that a body sent to a path may have; uploads have their own limit, once it is known who sends."""
    if not path.startswith("/api/") or path in _OPEN:
        return LARGEST_PUBLIC
    return LARGEST_UPLOAD if _NUMBER.sub("{id}", path) in uploads else LARGEST_JSON


class TooLarge(RequestEntityTooLarge):  # type: ignore[misc]
    """The refusal of a body in the form of the API; the connection is closed."""

    def to_response(self, ident: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        """The status line, headers and body of the answer."""
        body = json.dumps({"error": self.body, "place": None, "fits": []}).encode()
        return f"{self.code} {self.reason}", [("Content-Type", "application/json")], body


class Unreadable(Error):  # type: ignore[misc]
    """What the server itself cannot read (a wrong start line, a header that is too large), in the form of the API."""

    def __init__(self, other: Error) -> None:
        super().__init__("The request cannot be read.")
        self.code, self.reason = other.code, other.reason

    def to_response(self, ident: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        """The status line, headers and body of the answer."""
        body = json.dumps({"error": self.body, "place": None, "fits": []}).encode()
        return f"{self.code} {self.reason}", [("Content-Type", "application/json")], body


class _Adjusted:
    """The server's adjustments with a limit of the body for one request."""

    def __init__(self, adj: Any, most: int) -> None:
        self._adj, self.max_request_body_size = adj, most

    def __getattr__(self, name: str) -> Any:
        return getattr(self._adj, name)


def parser(uploads: frozenset[str], may_upload: Callable[[dict[str, str]], bool]) -> type[HTTPRequestParser]:
    """A parser for waitress that knows the limit of a body from its path, before the body is read. ``may_upload`` is
    asked, by the headers, before a body over the limit of JSON is taken."""

    class LimitedParser(HTTPRequestParser):  # type: ignore[misc]
        adj: Any
        error: Any

        def received(self, data: bytes) -> int:
            """Take octets of a request; how many were used."""
            consumed: int = super().received(data)
            if isinstance(self.error, RequestEntityTooLarge):
                self.error = TooLarge(f"The limit here is {self.adj.max_request_body_size - 1:,} bytes.")
            elif self.error is not None:
                self.error = Unreadable(self.error)
            return consumed

        def parse_header(self, header_plus: bytes) -> None:
            """Read the header and set the limit of the body by its path."""
            super().parse_header(header_plus)
            most = largest_body(str(self.path).split("?")[0], uploads)
            if most > LARGEST_JSON and (self.chunked or self.content_length > LARGEST_JSON):
                most = most if may_upload(self.headers) else LARGEST_JSON
            self.adj = _Adjusted(self.adj, most + 1)

    return LimitedParser
