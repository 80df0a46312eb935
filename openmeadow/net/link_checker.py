"""Do links answer: one polite request each, redirects followed, nothing read but the status."""

from __future__ import annotations

import urllib.parse
from collections.abc import Collection
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from openmeadow.net import http_client

TIMEOUT, MOST_REDIRECTS, AT_ONCE = 6, 5, 8
AGENT = "OpenMeadow-LinkCheck/1.0"


@dataclass(frozen=True)
class Answered:
    """``status`` of the last engagement, 0 for none; ``said`` why there was none; ``final`` the address it ended at."""

    url: str
    status: int
    said: str
    final: str


def ask(url: str, gateway: str = "", allowed: Collection[str] = ()) -> Answered:
    """What a link answers with. Never raises for what the other side does."""
    at = url
    try:
        for _ in range(MOST_REDIRECTS + 1):
            reply, leads_on = http_client.once(
                at, headers={"User-Agent": AGENT}, gateway=gateway, allowed=allowed, seconds=TIMEOUT, largest=0
            )
            if reply.status not in http_client.REDIRECTS or not leads_on:
                return Answered(url, reply.status, "", at)
            at = urllib.parse.urljoin(at, leads_on)
            if urllib.parse.urlsplit(at).scheme not in ("http", "https"):
                return Answered(url, 0, f"redirects to {at[:60]}", at)
        return Answered(url, 0, "redirect loop", at)
    except http_client.Unreachable as e:
        return Answered(url, 0, str(e), at)
    except ValueError:
        return Answered(url, 0, "host unreachable", at)


def ask_all(urls: list[str], gateway: str = "", allowed: Collection[str] = ()) -> list[Answered]:
    """How each address answers, in their order, some at a time."""
    with ThreadPoolExecutor(AT_ONCE) as pool:
        return list(pool.map(lambda u: ask(u, gateway, allowed), urls))
