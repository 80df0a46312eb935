"""The one way out over HTTP for what a user or a message named: resolved once, connected to the address that was
checked, inside addresses refused unless they are allowed, bounded in time, size and redirects, no proxy of the machine.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
import time
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

import urllib3
from urllib3.exceptions import HTTPError, LocationParseError
from urllib3.util import Timeout

TIMEOUT, LARGEST, MOST_REDIRECTS = 10.0, 1_000_000, 5  # seconds in all; octets
REDIRECTS = (301, 302, 303, 307, 308)
_NAT64 = (ipaddress.ip_network("64:ff9b::/96"), ipaddress.ip_network("64:ff9b:1::/48"))  # RFC 6052, 8215
Resolve = Callable[[str, int], list[str]]  # the addresses of a host
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


class Unreachable(Exception):
    """Why there is no answer, as a part of a sentence."""


@dataclass(frozen=True)
class Reply:
    """``url`` is where it ended after redirects."""

    status: int
    url: str
    body: bytes


def is_inside(ip: str) -> bool:
    """Whether an address belongs to this machine, its networks, or to none that the world reaches; addresses that carry
    an IPv4 address within (RFC 4291 2.5.5, 3056, 4380, 6052) are judged by that one."""
    address: Address = ipaddress.ip_address(ip.partition("%")[0])
    if isinstance(address, ipaddress.IPv6Address):
        low = ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
        within = address.ipv4_mapped or address.sixtofour
        if within is None and address.teredo:
            within = address.teredo[1]
        if within is None and (any(address in net for net in _NAT64) or int(address) >> 32 == 0):
            within = low
        if within is not None:
            return is_inside(str(within))
    return not address.is_global or address.is_multicast


def _addresses(host: str, port: int) -> list[str]:
    return [str(a[4][0]) for a in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]


def _resolved(host: str, port: int, allowed: Collection[str], resolve: Resolve) -> str:
    """One address of a host that may be connected to."""
    try:
        found = resolve(host, port)
    except (OSError, UnicodeError):
        raise Unreachable("host unreachable") from None
    if not found:
        raise Unreachable("host unreachable")
    may = {a.lower() for a in allowed}
    if host.lower() not in may and any(is_inside(ip) and ip not in may for ip in found):
        raise Unreachable("it leads into your own network")
    return found[0]


def _pool(scheme: str, host: str, ip: str, port: int, seconds: float) -> urllib3.HTTPConnectionPool:
    timeout = Timeout(total=seconds)
    if scheme == "https":
        return urllib3.HTTPSConnectionPool(
            ip,
            port,
            timeout=timeout,
            retries=False,
            maxsize=1,
            cert_reqs=ssl.CERT_REQUIRED,
            ssl_context=ssl.create_default_context(),
            assert_hostname=host,
            server_hostname=host,
        )
    return urllib3.HTTPConnectionPool(ip, port, timeout=timeout, retries=False, maxsize=1)


def once(
    url: str,
    *,
    method: str = "GET",
    body: bytes | None = None,
    headers: Mapping[str, str] | None = None,
    allowed: Collection[str] = (),
    gateway: str = "",
    seconds: float = TIMEOUT,
    largest: int = LARGEST,
    resolve: Resolve | None = None,
) -> tuple[Reply, str]:
    """One request, no redirect followed: the reply, and where it leads on to. ``allowed`` are hosts or addresses inside
    that may be asked; ``gateway`` an HTTP proxy that the workspace itself names. Unreachable says why there is none."""
    try:
        parts = urlsplit(url)
        scheme, host, port = parts.scheme.lower(), parts.hostname or "", parts.port
    except ValueError:
        raise Unreachable("it is not a web address") from None
    if scheme not in ("http", "https") or not host or any(ord(c) < 33 or ord(c) == 127 for c in url):
        raise Unreachable("it is not a web address")
    path = parts._replace(scheme="", netloc="", fragment="").geturl() or "/"
    ending = time.monotonic() + seconds
    try:
        if gateway:
            way = urlsplit(gateway)
            ip, pool_scheme, at, path = way.hostname or "", "http", way.port or 80, parts._replace(fragment="").geturl()
        else:
            at = port or (443 if scheme == "https" else 80)
            ip, pool_scheme = _resolved(host, at, allowed, resolve or _addresses), scheme
        with _pool(pool_scheme, host, ip, at, seconds) as pool:
            sent = {"Host": parts.netloc.rpartition("@")[2], "Accept": "*/*", **(headers or {})}
            reply = pool.urlopen(
                method, path, body=body, headers=sent, redirect=False, preload_content=False, assert_same_host=False
            )
            data = b""
            while (chunk := reply.read1(65_536)) and len(data) <= largest:
                data += chunk
                if time.monotonic() > ending:
                    raise Unreachable(f"no response in {seconds:g} s")
            reply.close()
    except urllib3.exceptions.NewConnectionError:
        raise Unreachable("host unreachable") from None
    except (urllib3.exceptions.ConnectTimeoutError, urllib3.exceptions.ReadTimeoutError, TimeoutError):
        raise Unreachable(f"no response in {seconds:g} s") from None
    except urllib3.exceptions.SSLError:
        raise Unreachable("its certificate is not valid") from None
    except (HTTPError, LocationParseError, OSError, ValueError, UnicodeError):
        raise Unreachable("host unreachable") from None
    return Reply(reply.status, url, data[:largest]), reply.headers.get("Location", "") or ""


def fetch(url: str, *, method: str = "GET", redirects: int = MOST_REDIRECTS, **how: Any) -> Reply:
    """A request with its redirects followed, each target checked anew; a POST is not sent on elsewhere. ``how`` is passed
    on to ``once``."""
    at = url
    for _ in range(redirects + 1):
        reply, leads_on = once(at, method=method, **how)
        if reply.status not in REDIRECTS or not leads_on or method != "GET":
            return reply
        at = urljoin(at, leads_on)
        if urlsplit(at).scheme not in ("http", "https"):
            raise Unreachable(f"redirects to {at[:60]}")
    raise Unreachable("redirect loop")
