"""Do links answer: one polite request each, redirects followed, nothing read but the status."""

from __future__ import annotations

import http.client
import ipaddress
import socket
import ssl
import urllib.parse
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

TIMEOUT, MOST_REDIRECTS, AT_ONCE = 6, 5, 8
AGENT = "Mozilla/5.0 (compatible; link check before a mailing)"


@dataclass(frozen=True)
class Answered:
    """``status`` of the last answer, 0 for none; ``said`` why there was none; ``final`` the address it ended at."""

    url: str
    status: int
    said: str
    final: str


def _inside(host: str) -> bool:
    """Whether a name leads into this machine's own networks, which readers cannot reach."""
    found = {a[4][0] for a in socket.getaddrinfo(host, None)}
    return any(not ipaddress.ip_address(str(a).partition("%")[0]).is_global for a in found)


def _once(url: str, gateway: str) -> tuple[int, str]:
    """(status, where it leads on to) of one request; through an HTTP gateway where one is set."""
    parts = urllib.parse.urlsplit(url)
    host = parts.hostname or ""
    path = parts._replace(scheme="", netloc="", fragment="").geturl() or "/"
    web: http.client.HTTPConnection
    if gateway:
        way = urllib.parse.urlsplit(gateway)
        web, path = http.client.HTTPConnection(way.netloc, timeout=TIMEOUT), parts._replace(fragment="").geturl()
    elif _inside(host):
        raise PermissionError("it leads into your own network")
    elif parts.scheme == "https":
        context = ssl.create_default_context()
        web = http.client.HTTPSConnection(host, parts.port, timeout=TIMEOUT, context=context)
    else:
        web = http.client.HTTPConnection(host, parts.port, timeout=TIMEOUT)
    try:
        web.request("GET", path, headers={"User-Agent": AGENT, "Host": parts.netloc, "Accept": "*/*"})
        answer = web.getresponse()
        return answer.status, answer.getheader("Location") or ""
    finally:
        web.close()


def ask(url: str, gateway: str = "") -> Answered:
    """What a link answers with. Never raises for what the other side does."""
    at = url
    try:
        for _ in range(MOST_REDIRECTS + 1):
            status, leads_on = _once(at, gateway)
            if status not in (301, 302, 303, 307, 308) or not leads_on:
                return Answered(url, status, "", at)
            at = urllib.parse.urljoin(at, leads_on)
            if urllib.parse.urlsplit(at).scheme not in ("http", "https"):
                return Answered(url, 0, f"it leads on to {at[:60]}", at)
        return Answered(url, 0, "it leads on and on in a circle", at)
    except ssl.SSLError:
        return Answered(url, 0, "its certificate is not valid", at)
    except TimeoutError:
        return Answered(url, 0, f"no answer in {TIMEOUT} s", at)
    except PermissionError as e:
        return Answered(url, 0, str(e), at)
    except (OSError, http.client.HTTPException, ValueError):
        return Answered(url, 0, "nobody answers there", at)


def ask_all(urls: list[str], gateway: str = "") -> list[Answered]:
    with ThreadPoolExecutor(AT_ONCE) as pool:
        return list(pool.map(lambda u: ask(u, gateway), urls))
