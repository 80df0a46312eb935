"""The mail world: a relay that plays the providers, and then the people.

Takes mail by SMTP, verifies DKIM and SPF against the DNS, refuses unknown mailboxes, defers, returns bounce
messages (RFC 3464) to the return path, and afterwards opens, clicks and unsubscribes over HTTP, as people and
as machines. Knows nothing of the product but the mail it gets.
"""

from __future__ import annotations

import email
import email.policy
import heapq
import html
import itertools
import json
import re
import smtplib
import threading
import urllib.parse
from collections import OrderedDict
from dataclasses import dataclass, field
from email.message import EmailMessage
from http.client import HTTPConnection
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import dkim
import numpy as np
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP as SmtpServer
from aiosmtpd.smtp import Envelope, Session

from openmeadow.core.authentication import spf
from openmeadow.core.moments import DAY, HOUR
from openmeadow.demo.mail_world.habits import IN_SPAM, Habits
from openmeadow.demo.mail_world.history import PERSON_AGENTS, PERSON_IP, PROXY_AGENT, PROXY_IP, SCANNER_AGENT, SCANNER_IP
from openmeadow.demo.mail_world.reputation import Reputation
from openmeadow.demo.mail_world.returned_mail import bounce, complaint
from openmeadow.net.dns import Resolver, answer_all

KEPT_MAILBOXES, KEPT_MESSAGES = 400, 30
RELAY_IP = "192.0.2.25"  # where the world's receivers see the relay's mail come from
MISTYPED = ("lanternmial.example", "postren.example", "brinebx.example")
LONGEST_NAME = 18  # mailboxes that no person of the demo has exist up to this length, so that one can look into them
BOUNCES_LATER = {"tidewatch.example"}
SAME_AGAIN, OTHER_AGAIN = 0.12, 0.2
SLOW_PROVIDER, SLOW_SHARE = "brinebox.example", 0.06


@dataclass(order=True)
class Act:
    """Something a person or machine will do over HTTP, or a report to hand on."""

    at: int
    n: int
    kind: str = field(compare=False)
    url: str = field(compare=False, default="")
    agent: str = field(compare=False, default="")
    ip: str = field(compare=False, default="")
    payload: tuple[str, str, str] = field(compare=False, default=("", "", ""))


class World:
    """State of the providers and people. ``clock`` is a file with UTC seconds."""

    def __init__(self, habits: Habits, clock: Path, resolver: Resolver, intake: tuple[str, int], seed: int = 3) -> None:
        self.habits, self.clock, self.resolver, self.intake = habits, clock, resolver, intake
        self.place = {e: i for i, e in enumerate(habits.email.tolist())}
        self.random = np.random.default_rng(seed)
        self.acts: list[Act] = []
        self.numbers = itertools.count()
        self.mailboxes: OrderedDict[str, list[dict[str, Any]]] = OrderedDict()
        self.received: dict[str, int] = {}
        self.placed = {"inbox": 0, "spam": 0}
        self.deferred_once: set[str] = set()
        self.spam_at: set[str] = set()  # domains that put everything into the spam folder
        self.reputation = Reputation()
        self.guard = threading.RLock()
        self.had: dict[tuple[int, str], list[str]] = {}
        self._spf: dict[str, bool] = {}
        self._http: dict[str, HTTPConnection] = {}

    def now(self) -> int:
        return int(self.clock.read_text())

    def later(self, at: int, kind: str, **rest: Any) -> None:
        heapq.heappush(self.acts, Act(int(at), next(self.numbers), kind, **rest))

    def refusal(self, to: str) -> str | None:
        """The answer to RCPT, None to take it."""
        address, now = to.lower(), self.now()
        domain = address.rpartition("@")[2]
        if domain.startswith("bounce."):
            return None
        person = self.place.get(address)
        if person is not None and self.habits.gone[person] <= now and domain not in BOUNCES_LATER:
            return "550 5.1.1 no such user here"
        if person is None and len(address.partition("@")[0]) > LONGEST_NAME and domain != SLOW_PROVIDER:
            return "550 5.1.1 no such user here"
        if domain == SLOW_PROVIDER and address not in self.deferred_once:
            self.deferred_once.add(address)
            if self.random.random() < SLOW_SHARE:
                return "451 4.7.1 too much mail from you at the moment, try again later"
        return None

    def _believed(self, message: bytes, return_path: str) -> bool:
        try:
            signed = bool(dkim.verify(message, dnsfunc=self._txt))
        except dkim.DKIMException:
            signed = False
        domain = return_path.rpartition("@")[2]
        if domain not in self._spf:
            self._spf[domain] = answer_all(spf.check(RELAY_IP, domain), self.resolver).result == "pass"
        return signed and self._spf[domain]

    def _txt(self, name: bytes, timeout: int = 5) -> bytes | None:
        from openmeadow.core.authentication.questions import Question

        found = self.resolver.ask(Question(name.decode().rstrip("."), "TXT"))
        return found.values[0].encode() if found.values else None

    def take(self, return_path: str, to: str, raw: bytes) -> None:
        """A message for one mailbox: keep it, place it, and plan what will be done with it."""
        if to.lower().partition("@")[2].startswith("bounce."):
            self._hand_on(return_path, to, raw)
            return
        with self.guard:
            now, address = self.now(), to.lower()
            message = email.message_from_bytes(raw, policy=email.policy.default)
            folder = self._folder(address.rpartition("@")[2], believed=self._believed(raw, return_path))
            self.placed[folder] += 1
            row_id = str(message["Message-ID"])
            self.received[row_id] = self.received.get(row_id, 0) + 1
            self._keep(address, message, raw, folder, now)
            person = self.place.get(address)
            if person is None:
                return
            if self.habits.gone[person] <= now:
                self.later(now + 40, "hand on", payload=("", return_path, bounce(return_path, to, row_id)))
                return
            self._plan(person, message, folder, now, return_path)

    def _folder(self, provider: str, *, believed: bool) -> str:
        """Where a provider puts a message: by whether it is authenticated, and by what was read of those before."""
        share = self.reputation.share_in_spam(provider)
        if not believed or provider in self.spam_at or (share and self.random.random() < share):
            return "spam"
        return "inbox"

    def _keep(self, address: str, message: EmailMessage, raw: bytes, folder: str, now: int) -> None:
        box = self.mailboxes.setdefault(address, [])
        self.mailboxes.move_to_end(address)
        body = message.get_body(("html", "plain"))
        plain = message.get_body(("plain",))
        box.append(
            {
                "at": now,
                "id": str(message["Message-ID"]),
                "from": str(message["From"]),
                "subject": str(message["Subject"]),
                "folder": folder,
                "html": body.get_content() if body else "",
                "is_html": body is not None and body.get_content_subtype() == "html",
                "plain": plain.get_content() if plain else "",
                "source": raw.decode("utf-8", "replace").replace("\r\n", "\n"),
            }
        )
        del box[:-KEPT_MESSAGES]
        while len(self.mailboxes) > KEPT_MAILBOXES:
            self.mailboxes.popitem(last=False)

    def _plan(self, i: int, message: EmailMessage, folder: str, now: int, return_path: str) -> None:
        body = message.get_body(("html",))
        if body is None:
            return
        text, r, h = body.get_content(), self.random, self.habits
        image = next(iter(re.findall(r'<img src="([^"]+/o/[^"]+)"', text)), "")
        links = [html.unescape(u) for u in re.findall(r'href="([^"]+/c/[^"]+)"', text)]
        hidden = [html.unescape(u) for u in re.findall(r'href="([^"]+/c/[^"]+)" style="display:none"', text)]
        links = [u for u in links if u not in hidden]
        if h.proxy[i] and image:
            self.later(
                now + int(r.integers(20, HOUR)), "get", url=image, agent=PROXY_AGENT, ip=PROXY_IP.format(130 + i % 50)
            )
        if h.sweeps[i]:
            for k, url in enumerate([*links, *hidden]):
                self.later(now + 1 + k // 2, "get", url=url, agent=SCANNER_AGENT, ip=SCANNER_IP.format(7))
        campaign = re.search(r"\.(c\d+)\.", str(message.get("Message-ID", "")))
        about, subject = campaign.group(1) if campaign else "", str(message["Subject"])
        before = self.had.setdefault((i, about), [])
        # who let a message lie seldom opens it when it comes again; another subject gets a second look
        again = 1.0 if not before or not about else SAME_AGAIN if subject in before else OTHER_AGAIN
        before.append(subject)
        reads = now < h.until[i] and r.random() < h.open[i] * again * (1.1 if folder == "inbox" else IN_SPAM)
        self.reputation.saw(str(h.email[i]).rpartition("@")[2], 1, int(reads))
        if not reads:
            if r.random() < h.complains[i]:
                self._complain(i, message, now + 7200, return_path)
            return
        delay = 15 + int(min(r.lognormal(9.1, 1.5), 12 * DAY))
        agent = PERSON_AGENTS[i % len(PERSON_AGENTS)]
        if image and not h.proxy[i]:
            self.later(now + delay, "get", url=image, agent=agent, ip=PERSON_IP.format(1 + i % 3))
        if links and r.random() < h.click[i]:
            self.later(
                now + delay + 40,
                "get",
                url=links[int(r.integers(len(links)))],
                agent=agent,
                ip=PERSON_IP.format(1 + i % 3),
            )
        if r.random() < 0.002:
            self._leave(i, message, now + delay + 60)

    def _complain(self, i: int, message: EmailMessage, at: int, return_path: str) -> None:
        """The provider that opens mail by itself reports nothing; it presses one-click for its reader instead."""
        if self.habits.proxy[i]:
            self._leave(i, message, at)
            return
        to = str(self.habits.email[i])
        text = complaint(return_path, to, str(message["Message-ID"]), str(message["From"]))
        self.later(at, "hand on", payload=("", return_path, text))

    def _leave(self, i: int, message: EmailMessage, at: int) -> None:
        one_click = re.search(r"<(https?://[^>]+)>", str(message.get("List-Unsubscribe", "")))
        if one_click and message.get("List-Unsubscribe-Post"):
            self.later(at, "one-click", url=one_click.group(1), agent=PERSON_AGENTS[0], ip=PERSON_IP.format(1))

    def next_act(self) -> int | None:
        with self.guard:
            return self.acts[0].at if self.acts else None

    def play(self) -> int:
        """Everything that people and machines do up to now. Returns how much that was."""
        done = 0
        while True:
            with self.guard:
                if not self.acts or self.acts[0].at > self.now():
                    return done
                act = heapq.heappop(self.acts)
            self._do(act)
            done += 1

    def _do(self, act: Act) -> None:
        if act.kind == "hand on":
            return_path, to, text = act.payload
            self._hand_on(return_path, to, text.encode("latin-1"))
            return
        parts = urllib.parse.urlsplit(act.url)
        headers = {"User-Agent": act.agent, "X-Forwarded-For": act.ip}
        method, data = "GET", None
        if act.kind == "one-click":
            method, data = "POST", "List-Unsubscribe=One-Click"
            headers["Content-Type"] = "application/x-www-form-urlencoded"
        for attempt in (1, 2):
            web = self._http.get(parts.netloc)
            if web is None:
                web = self._http[parts.netloc] = HTTPConnection(parts.netloc, timeout=20)
            try:
                web.request(method, parts.path, data, headers)
                web.getresponse().read()
                return
            except OSError:
                web.close()
                del self._http[parts.netloc]
                if attempt == 2:
                    return
            except Exception:  # a broken response ends this visit, not the world
                web.close()
                del self._http[parts.netloc]
                return

    def _hand_on(self, return_path: str, to: str, raw: bytes) -> None:
        """Mail for a return domain goes where its MX leads: to the product's intake."""
        try:
            with smtplib.SMTP(*self.intake, timeout=20) as smtp:
                smtp.sendmail(return_path, [to], raw)
        except (smtplib.SMTPRecipientsRefused, smtplib.SMTPDataError):
            return  # as a mail server would: what is refused for good is not tried again
        except (OSError, smtplib.SMTPException):
            self.later(self.now() + 600, "hand on", payload=(return_path, to, raw.decode("latin-1")))


class _Relay:
    """aiosmtpd's handler: one recipient a message, as the product sends them."""

    def __init__(self, world: World) -> None:
        self.world = world

    async def handle_EHLO(
        self, server: SmtpServer, session: Session, envelope: Envelope, hostname: str, responses: list[str]
    ) -> list[str]:
        session.host_name = hostname
        return [responses[0], "250-PIPELINING", *responses[1:]]

    async def handle_RCPT(
        self, server: SmtpServer, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        refusal = self.world.refusal(address)
        if refusal is None:
            envelope.rcpt_tos.append(address)
        return refusal or "250 2.1.5 fine"

    async def handle_DATA(self, server: SmtpServer, session: Session, envelope: Envelope) -> str:
        for to in envelope.rcpt_tos:
            self.world.take(envelope.mail_from or "", to, envelope.content)
        return "250 2.0.0 taken"


class _Controller(Controller):  # type: ignore[misc]
    def factory(self) -> SmtpServer:
        return SmtpServer(self.handler, enable_SMTPUTF8=True, ident="relay of the mail world")


def serve_smtp(world: World, port: int) -> Controller:
    """Listen for mail on loopback; the controller has ``stop``."""
    controller = _Controller(_Relay(world), hostname="127.0.0.1", port=port)
    controller.start()
    return controller


def serve_http(world: World, port: int) -> ThreadingHTTPServer:
    """Mailboxes to look into, and the word to go on playing."""

    class Pages(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def _send(self, body: str, kind: str = "application/json", status: int = 200) -> None:
            data = body.encode()
            self.send_response(status)
            self.send_header("Content-Type", f"{kind}; charset=utf-8")
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def do_GET(self) -> None:
            if self.path.startswith(("http://", "https://")):
                self._send(*site_page(self.path))
                return
            path = urllib.parse.unquote(self.path)
            if path == "/next":
                self._send(json.dumps({"next": world.next_act()}))
            elif path == "/received":
                self._send(json.dumps({"messages": world.received, "placed": world.placed}))
            elif path.startswith("/mailbox/"):
                self._send(json.dumps(world.mailboxes.get(path.removeprefix("/mailbox/").lower(), [])))
            elif path.startswith("/look/"):
                self._send(mailbox_page(world, path.removeprefix("/look/").lower()), "text/html")
            elif path == "/":
                self._send(mailbox_list(world), "text/html")
            else:
                self._send("{}", status=404)

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("Content-Length") or 0))
            place, _, domain = self.path.removeprefix("/placement/").partition("/")
            if self.path == "/play":
                self._send(json.dumps({"done": world.play(), "next": world.next_act()}))
            elif self.path.startswith("/placement/") and place in ("inbox", "spam") and domain:
                (world.spam_at.add if place == "spam" else world.spam_at.discard)(domain.lower())
                self._send(json.dumps({"spam": sorted(world.spam_at)}))
            else:
                self._send("{}", status=404)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", port), Pages)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return server


SITE, SITE_PAGES = "www.kestrelquay.example", ("", "spring", "tickets", "visit", "programme", "family", "patrons")


def site_page(url: str) -> tuple[str, str, int]:
    """What the hall's web site answers, asked through the world as an HTTP gateway: (page, kind, status)."""
    parts = urllib.parse.urlsplit(url)
    if parts.hostname == SITE and parts.path.strip("/").partition("/")[0] in SITE_PAGES:
        return f"<!doctype html><title>Kestrel Quay</title><h1>{html.escape(parts.path)}</h1>", "text/html", 200
    return "<!doctype html><title>Not here</title>", "text/html", 404 if parts.hostname == SITE else 502


_STYLE = (
    "<style>body{font:15px/1.5 sans-serif;margin:40px auto;max-width:760px;color:#1E2B33;background:#FAF8F2}"
    "summary{cursor:pointer;margin-top:8px}.source{font:12px/1.4 monospace!important;overflow-wrap:anywhere}"
    "article{border-top:1px solid #CFC8B7;padding:16px 0}pre{white-space:pre-wrap;font:inherit}"
    "iframe{width:100%;height:420px;border:1px solid #E2DDD0;background:#fff}</style>"
)


def mailbox_list(world: World) -> str:
    """A page with all mailboxes."""
    rows = "".join(
        f'<p><a href="/look/{html.escape(a)}">{html.escape(a)}</a> · {len(m)}</p>'
        for a, m in reversed(world.mailboxes.items())
    )
    return f"<!doctype html><title>Demo mailboxes</title>{_STYLE}<h1>Demo mailboxes</h1>{rows or 'No mail yet.'}"


def _linked(text: str) -> str:
    return re.sub(r"(https?://\S+)", r'<a href="\1" target="_blank">\1</a>', html.escape(text))


def mailbox_page(world: World, address: str) -> str:
    """A page with the mail in one mailbox."""

    def one(m: dict[str, Any]) -> str:
        head = f"<b>{html.escape(m['subject'])}</b><br>{html.escape(m['from'])} · {m['folder']}"
        body = (
            f'<iframe sandbox="allow-popups" srcdoc="{html.escape(m["html"])}"></iframe>'
            if m["is_html"]
            else f"<pre>{_linked(m['html'])}</pre>"
        )
        source = f"<details><summary>Source as it arrived</summary><pre class=source>{html.escape(m['source'])}</pre></details>"
        return f"<article>{head}{body}{source}</article>"

    mails = "".join(one(m) for m in reversed(world.mailboxes.get(address, [])))
    return (
        f"<!doctype html><title>{html.escape(address)}</title>{_STYLE}<p><a href='/'>All mailboxes</a></p>"
        f"<h1>{html.escape(address)}</h1>{mails or 'No mail yet.'}"
    )
