"""Pre-send checks on any message: what would keep it out of the inbox or against the rules, each a sentence.

A blocker must be fixed before the message is sent, a warning should be, a note is to be known.
"""

from __future__ import annotations

import bisect
import email
import email.errors
import email.message
import email.policy
import email.utils
import ipaddress
import re
from collections.abc import Collection
from dataclasses import dataclass, field

from lxml import etree
from lxml.html import HtmlElement, HTMLParser, document_fromstring

from openmeadow.core.addresses.providers import is_freemail
from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.authentication import dmarc
from openmeadow.core.authentication.dkim_record import tags_of
from openmeadow.core.authentication.questions import Asking
from openmeadow.core.message import wording
from openmeadow.core.reports.mail import Unreadable, parsed

BLOCKER, WARNING, NOTE = LEVELS = ("blocker", "warning", "note")
LONGEST_LINE = 998  # RFC 5322 2.1.1
HTML_BYTES = 100_000
ON_A_PHONE, SUBJECT_LONG = 40, 70
PREVIEW = (40, 100)
LITTLE_TEXT = 200
_FIELD = re.compile(r"\{\{.{0,200}?\}\}|\{%.{0,200}?%\}|\[\[.{0,100}?\]\]|%%[A-Za-z_]{1,60}%%|<%.{0,200}?%>", re.S)
_SHORTENED = re.compile(r"https?://[a-z0-9-]{1,6}\.[a-z]{2,3}/[A-Za-z0-9]{3,10}/?\Z", re.I)
_HOST_LETTERS = re.compile(r"[a-z0-9.-]+", re.I)
_LABEL, _TOP = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?", re.I), re.compile(r"[a-z]{2,24}", re.I)
_UNSUBSCRIBE = re.compile(
    r"unsubscrib|opt[ -]?out|stop (these|this|receiving)|preferences|abmeld|désabonn|darse de baja", re.I
)
_NUMBER, _CAPITAL, NEAR = re.compile(r"\b\d{1,6}[a-z]?\b"), re.compile(r"\b[A-Z]\w"), 60
_DROPPED = {
    "script": "scripts",
    "form": "forms",
    "iframe": "frames",
    "object": "embedded objects",
    "embed": "embedded objects",
    "video": "videos",
    "audio": "sound",
    "link": "outside style sheets",
}
_SECURE = re.compile(r"<\s*https://[^<>]{1,2000}>", re.I)
_SCHEME = re.compile(r"https?://")
_FALSE_START = re.compile(r"(re|fw|fwd|aw|sv)\s*:", re.I)


@dataclass(frozen=True)
class Check:
    check: str
    level: str
    finding: str


def in_order(found: list[Check]) -> list[Check]:
    """Blockers first, then warnings, then notes; each once."""
    return sorted(dict.fromkeys(found), key=lambda c: LEVELS.index(c.level))


_SILENT = {"style", "script", "title", "template", "noscript"}
_HIDES = {"div", "span", "p", "td"}


@dataclass
class _Page:
    """What the HTML shows: text, links with their words, images, what is hidden, and what readers drop."""

    text: list[str] = field(default_factory=list)
    links: list[tuple[str, str]] = field(default_factory=list)
    images: list[tuple[str, str | None]] = field(default_factory=list)
    dropped: set[str] = field(default_factory=set)
    hidden: list[str] = field(default_factory=list)


def page_of(html: str) -> _Page:
    """Read by a parser that keeps to its depth and goes through it once."""
    page = _Page()
    try:
        tree = document_fromstring(html.replace("\0", "") or "<p></p>", parser=HTMLParser(encoding="utf-8"))
    except (etree.ParserError, ValueError):
        return page
    silent = away = 0
    link: list[str] | None = None
    for event, e in etree.iterwalk(tree, events=("start", "end", "comment", "pi")):
        tag = e.tag if isinstance(e.tag, str) else ""
        hides = tag in _HIDES and _is_hidden(e)
        if event == "start":
            silent += tag in _SILENT
            away += hides
            if tag in _DROPPED and (tag != "link" or "stylesheet" in (e.get("rel") or "")):
                page.dropped.add(_DROPPED[tag])
            if tag == "a" and e.get("href") is not None:
                link = []
            if tag == "img" and not (e.get("width") in ("0", "1") and e.get("height") in ("0", "1")):
                page.images.append((e.get("src") or "", e.get("alt")))
                if link is not None:
                    link.append(e.get("alt") or "")
            said = e.text
        else:
            silent -= event == "end" and tag in _SILENT
            away -= event == "end" and hides
            if tag == "a" and link is not None and event == "end":
                page.links.append(((e.get("href") or "").strip(), " ".join("".join(link).split())))
                link = None
            said = e.tail
        if said and not silent:
            (page.hidden if away else page.text).append(said)
            if link is not None:
                link.append(said)
    return page


def _is_hidden(e: HtmlElement) -> bool:
    style = (e.get("style") or "").replace(" ", "").lower()
    return "display:none" in style or "max-height:0" in style


# with what preview texts are padded: joiners, soft hyphens, spaces that do not break
_NOTHING_TO_SEE = dict.fromkeys(map(ord, "\u034f\u200b\u200c\u200d\u2007\u00ad\ufeff\u00a0"), " ")


def _words(parts: list[str]) -> str:
    return " ".join(" ".join(parts).split())


def of_html(html: str) -> list[Check]:
    """The HTML by itself."""
    page, out = page_of(html), []
    size = len(html.encode("utf-8", "replace"))
    if size > HTML_BYTES:
        out.append(Check("Size", WARNING, f"The HTML has {size // 1000:,} kB; large providers clip it above 100 kB."))
    no_alt = sum(alt is None for _, alt in page.images)
    if no_alt:
        out.append(Check("Images", WARNING, f"{no_alt} of {len(page.images)} images have no alt text."))
    if page.images and len(_words(page.text)) < LITTLE_TEXT:
        out.append(Check("Images", WARNING, "There is too little text for the images; filters may see spam."))
    if page.dropped:
        out.append(Check("HTML", WARNING, f"Mail clients remove {', '.join(sorted(page.dropped))}."))
    hidden = _words([h.translate(_NOTHING_TO_SEE) for h in page.hidden])
    preview = hidden or _words(page.text)
    if not hidden:
        out.append(Check("Preview text", NOTE, f"None is set; the inbox will show “{preview[:60]}”."))
    elif not PREVIEW[0] <= len(preview) <= PREVIEW[1]:
        out.append(Check("Preview text", NOTE, f"It has {len(preview)} characters; 40 to 100 work best."))
    hints = wording.of_text(_words(page.text)) + wording.of_links(page.links)
    return out + of_links(page.links) + [Check("Wording", NOTE, words) for words in hints]


def _domain_in(words: str) -> str:
    """The first host name that words show; "" for none."""
    for run in _HOST_LETTERS.finditer(words):
        labels = run.group().strip(".-").split(".")
        if 1 < len(labels) < 128 and _TOP.fullmatch(labels[-1]) and all(_LABEL.fullmatch(part) for part in labels):
            return ".".join(labels)
    return ""


def _has_postal_address(text: str) -> bool:
    """Whether a number stands near a word with a capital letter in one line, as in "1 Harbour Steps"."""
    for line in text.splitlines():
        numbers = [m.start() for m in _NUMBER.finditer(line)]
        for word in _CAPITAL.finditer(line):
            at = bisect.bisect(numbers, word.start())
            if any(abs(n - word.start()) <= NEAR for n in numbers[max(0, at - 1) : at + 1]):
                return True
    return False


def of_links(links: list[tuple[str, str]]) -> list[Check]:
    """Where links lead, and what they say they are."""
    out, insecure = [], 0
    for href, words in links:
        low = href.lower()
        if not href or low in ("#", "javascript:void(0)") or low.startswith("javascript:"):
            out.append(Check("Links", BLOCKER, f"The link “{words[:40] or href[:40]}” has no address."))
            continue
        if low.startswith(("mailto:", "tel:", "sms:", "#")):
            continue
        host = _SCHEME.sub("", low, count=1).partition("/")[0].rpartition("@")[2].partition(":")[0]
        try:
            ipaddress.ip_address(host.strip("[]"))
            out.append(Check("Links", BLOCKER, f"A link leads to an IP address, {host}; filters see phishing."))
        except ValueError:
            pass
        if _SHORTENED.match(href):
            out.append(
                Check(
                    "Links", WARNING, f"{href[:60]} looks shortened; filters cannot see its target. Use the full address."
                )
            )
        insecure += low.startswith("http://")
        named = _domain_in(words)
        if named and low.startswith("http") and not dmarc.aligned(named, host):
            out.append(
                Check("Links", BLOCKER, f"A link shows {named} but leads to {host}; mail clients warn about such links.")
            )
    if insecure:
        out.append(Check("Links", NOTE, f"{insecure} {'link is' if insecure == 1 else 'links are'} not https."))
    return out


def of_subject(subject: str) -> list[Check]:
    """What a subject has that readers or filters dislike."""
    out = []
    if not subject.strip():
        return [Check("Subject", BLOCKER, "There is no subject.")]
    if _FALSE_START.match(subject):
        out.append(Check("Subject", WARNING, "It starts like a reply (“Re:”), which is seen as deceptive."))
    letters = [c for c in subject if c.isalpha()]
    if len(letters) > 8 and sum(c.isupper() for c in letters) > 0.7 * len(letters):
        out.append(Check("Subject", WARNING, "It is mostly capital letters."))
    else:
        out += [Check("Subject", NOTE, words) for words in wording.of_text(subject)]
    if len(subject) > SUBJECT_LONG:
        shown = subject[:ON_A_PHONE].rsplit(" ", 1)[0]
        out.append(Check("Subject", NOTE, f"{len(subject)} characters; phones show about “{shown}…”."))
    return out


def _from(message: email.message.Message, freemail: Collection[str]) -> tuple[str, list[Check]]:
    values = message.get_all("From", [])
    if len(values) != 1:
        words = "There is no From." if not values else f"There are {len(values)} From headers; one is allowed."
        return "", [Check("From", BLOCKER, words)]
    addresses = [a for _, a in email.utils.getaddresses([str(values[0])]) if a]
    if len(addresses) != 1 or "@" not in addresses[0] or syntax_problem(addresses[0]):
        return "", [Check("From", BLOCKER, "From is not a single valid address.")]
    domain = addresses[0].rpartition("@")[2].lower()
    if is_freemail(domain, freemail):
        return domain, [
            Check(
                "From",
                BLOCKER,
                f"{domain} is a free mailbox provider; receivers reject such mail from other servers. Use your own domain.",
            )
        ]
    return domain, []


def _headers(message: email.message.Message, raw: bytes) -> list[Check]:
    out = []
    if "Date" not in message:
        out.append(Check("Date", BLOCKER, "There is no Date."))
    elif email.utils.parsedate_tz(str(message["Date"])) is None:
        out.append(Check("Date", BLOCKER, "The Date cannot be read."))
    if "Message-ID" not in message:
        out.append(Check("Message-ID", WARNING, "There is no Message-ID; bounces and replies cannot be matched."))
    head = raw.split(b"\r\n\r\n" if b"\r\n\r\n" in raw else b"\n\n", 1)[0]
    if any(b > 127 for b in head):
        out.append(Check("Headers", BLOCKER, "The headers contain non-ASCII characters that are not encoded (RFC 2047)."))
    longest = max((len(line.rstrip(b"\r")) for line in raw.split(b"\n")), default=0)
    if longest > LONGEST_LINE:
        out.append(Check("Lines", BLOCKER, f"A line has {longest:,} octets; {LONGEST_LINE} are allowed (RFC 5322)."))
    return out


def _one_click(message: email.message.Message) -> list[Check]:
    unsubscribe = " ".join(str(message.get("List-Unsubscribe", "")).split())
    post = " ".join(str(message.get("List-Unsubscribe-Post", "")).split())
    if not unsubscribe:
        return [
            Check("One-click unsubscribe", BLOCKER, "There is no List-Unsubscribe; bulk mail must have one (RFC 2369).")
        ]
    out = []
    if not _SECURE.search(unsubscribe):
        words = "only over http" if "<http:" in unsubscribe.lower() else "by mail only"
        out.append(
            Check(
                "One-click unsubscribe",
                BLOCKER,
                f"List-Unsubscribe works {words}; one click needs an https address (RFC 8058).",
            )
        )
    if post != "List-Unsubscribe=One-Click":
        words = "is missing" if not post else "has another value"
        out.append(
            Check(
                "One-click unsubscribe",
                BLOCKER,
                f"List-Unsubscribe-Post {words}; it must be “List-Unsubscribe=One-Click” (RFC 8058).",
            )
        )
    signatures = message.get_all("DKIM-Signature", [])
    if signatures and not out:
        covered = [{h.strip().lower() for h in tags_of(str(s)).get("h", "").split(":")} for s in signatures]
        if not any({"list-unsubscribe", "list-unsubscribe-post"} <= c for c in covered):
            out.append(
                Check(
                    "One-click unsubscribe", BLOCKER, "No DKIM signature covers both List-Unsubscribe headers (RFC 8058)."
                )
            )
    return out


def _signature(message: email.message.Message, domain: str) -> list[Check]:
    signatures = [tags_of("".join(str(s).split())) for s in message.get_all("DKIM-Signature", [])]
    if not signatures:
        return [Check("DKIM", NOTE, "The message is not signed; it must be when sent.")]
    out = []
    for s in signatures:
        if s.get("a", "").endswith("sha1"):
            out.append(Check("DKIM", BLOCKER, "A signature uses SHA-1, which receivers no longer accept (RFC 8301)."))
        if "l" in s:
            out.append(Check("DKIM", WARNING, "A signature covers only part of the body (l=), so content can be added."))
        if "from" not in [h.lower() for h in s.get("h", "").split(":")]:
            out.append(Check("DKIM", BLOCKER, "A signature does not cover From (RFC 6376 5.4)."))
    if domain and not any(dmarc.aligned(s.get("d", ""), domain) for s in signatures):
        path = email.utils.parseaddr(str(message.get("Return-Path", "")))[1].rpartition("@")[2]
        level = WARNING if path and dmarc.aligned(path, domain) else BLOCKER
        signer = ", ".join(s.get("d", "no domain") for s in signatures)
        out.append(Check("Alignment", level, f"It is signed by {signer}, which is not aligned with From {domain}."))
    return out


def _bodies(message: email.message.Message) -> tuple[str, str]:
    """(plain, HTML) of the parts that are read as the message."""
    plain = html = ""
    for part in message.walk():
        if part.is_multipart() or part.get_content_disposition() == "attachment":
            continue
        kind = part.get_content_type()
        if kind not in ("text/plain", "text/html"):
            continue
        data = part.get_payload(decode=True)
        charset = part.get_content_charset() or "utf-8"
        try:
            text = data.decode(charset, "replace") if isinstance(data, bytes) else ""
        except LookupError:
            text = data.decode("utf-8", "replace") if isinstance(data, bytes) else ""
        if kind == "text/plain" and not plain:
            plain = text
        elif kind == "text/html" and not html:
            html = text
    return plain, html


def _subject_of(message: email.message.Message) -> str:
    from email.header import decode_header, make_header

    try:
        return str(make_header(decode_header(str(message.get("Subject", "")))))
    except (LookupError, ValueError, email.errors.HeaderParseError):
        return str(message.get("Subject", ""))


def of_message(raw: bytes, freemail: Collection[str] = ()) -> list[Check]:
    """Everything that can be said of a message without asking anybody."""
    try:
        message = parsed(raw)
    except Unreadable as e:
        return [Check("Message", BLOCKER, str(e))]
    if not message.keys():
        return [Check("Message", BLOCKER, "This is not a mail message: it has no headers.")]
    domain, out = _from(message, freemail)
    out += _headers(message, raw) + of_subject(_subject_of(message)) + _one_click(message) + _signature(message, domain)
    plain, html = _bodies(message)
    if html:
        out += of_html(html)
        if not plain.strip():
            out.append(
                Check("Plain text", WARNING, "There is no plain-text version; some mail clients and filters expect one.")
            )
    elif not plain.strip():
        out.append(Check("Message", BLOCKER, "The message is empty: no text and no HTML."))
    else:
        out += [Check("Wording", NOTE, words) for words in wording.of_text(" ".join(plain.split()))]
    page = page_of(html)
    shown = _words(page.text) + " " + " ".join(w for _, w in page.links) if html else plain
    leads = any("unsub" in h.lower() or "/u/" in h for h, _ in page.links)
    if shown.strip() and not (_UNSUBSCRIBE.search(shown) or leads):
        out.append(Check("Unsubscribe", BLOCKER, "There is no visible unsubscribe link."))
    tail = "\n".join(t for t in ((html and "\n".join(page.text)) or plain).splitlines() if t.strip())[-1500:]
    if shown.strip() and not _has_postal_address(tail):
        out.append(Check("Postal address", WARNING, "There is no postal address at the end."))
    fields = _FIELD.findall(f"{_subject_of(message)}\n{plain}\n{_words(page.text) if html else ''}")
    if fields:
        out.append(Check("Merge fields", BLOCKER, f"“{fields[0][:40]}” was not filled in."))
    return in_order(out)


def sender_of(raw: bytes) -> Asking[list[Check]]:
    """What the DNS says of the From domain."""
    try:
        domain, _ = _from(parsed(raw), ())
    except Unreadable:
        return []
    if not domain:
        return []
    seen = yield from dmarc.discover(domain)
    if seen.status == "unknown":
        return [Check("DMARC", NOTE, f"The DNS servers of {domain} did not reply; result unknown.")]
    if seen.policy is None:
        return [Check("DMARC", BLOCKER, f"{domain} has no valid DMARC policy; bulk mail from it is rejected.")]
    return []
