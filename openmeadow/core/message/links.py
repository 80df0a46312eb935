"""The links of a message: found in HTML and in plain text, and led through this workspace."""

from __future__ import annotations

import re
from collections.abc import Mapping

from openmeadow.core.message.html_scan import Attribute, replaced, tags

_WEB = re.compile(r"https?://[^\s{}]+\Z", re.I)  # a merge field in an address is no link to count
_BREAKS = dict.fromkeys(map(ord, "\t\r\n"))
_BARE = re.compile(r"https?://[^\s<>\"{}]+", re.I)
LONGEST_ADDRESS = 4_000  # characters; a longer one loses all that may end a sentence at once
_AFTER = ".,;:!?)]'*_"  # may end a sentence around an address
PARAMETER_NAMES = ("campaign", "purpose")  # what a parameter of links may name


def _hrefs(html: str) -> list[tuple[Attribute, str]]:
    """The addresses on the web that links lead to, with their places."""
    out = []
    for tag in tags(html):
        href = tag.get("href") if tag.name in ("a", "area") else None
        if href is not None:
            url = href.value.strip().translate(_BREAKS)
            if _WEB.match(url):
                out.append((href, url))
    return out


def links(html: str, plain: str = "") -> list[str]:
    """The addresses that links of a message lead to, as they mean, in order, each once."""
    in_text = [_without_ending(m.group(), {}) for m in _BARE.finditer(plain)]
    return list(dict.fromkeys([*(url for _, url in _hrefs(html)), *in_text]))


def _without_ending(run: str, known: Mapping[str, int]) -> str:
    """An address without the punctuation of the sentence around it; one that is known ends where it ends."""
    if run in known:
        return run
    shorter, many = run, {sign: run.count(sign) for sign in "()[]"}
    longest = max(map(len, known), default=0)
    while shorter and shorter[-1] in _AFTER:
        last = shorter[-1]
        if last in ")]" and many[last] <= many["(" if last == ")" else "["]:
            break  # it belongs to the address: …/seats_(upper)
        if last in many:
            many[last] -= 1
        shorter = shorter[:-1] if len(shorter) < LONGEST_ADDRESS else shorter.rstrip(_AFTER)
        if len(shorter) <= longest and shorter in known:
            return shorter
    return shorter


def tracked_html(html: str, numbers: Mapping[str, int]) -> str:
    """The HTML with each known address replaced by the template's call for its link; all else stays byte for byte."""
    changes = []
    for href, url in _hrefs(html):
        if url in numbers:
            quoted = html[href.start - 1 : href.start] in ('"', "'")
            call = f"{{{{ _link({numbers[url]}) }}}}"
            changes.append((href.start, href.end, call if quoted else f'"{call}"'))
    return replaced(html, changes)


def tracked_plain(text: str, numbers: Mapping[str, int]) -> str:
    """The plain text likewise."""

    def one(m: re.Match[str]) -> str:
        run = m.group()
        url = _without_ending(run, numbers)
        return f"{{{{ _link({numbers[url]}) }}}}{run[len(url) :]}" if url in numbers else run

    return _BARE.sub(one, text)


BADGE = (
    '<span style="display:inline-block;background:#3A55A4;color:#fff;font:bold 11px/1.4 sans-serif;border-radius:8px;'
    'padding:0 6px;margin-right:4px;text-decoration:none">{}</span>'
)


def with_counts(html: str, counts: Mapping[str, int]) -> str:
    """The HTML with a number in front of what each known link says; all else stays byte for byte."""
    changes = []
    for tag in tags(html):
        href = tag.get("href") if tag.name == "a" else None
        url = "" if href is None else href.value.strip().translate(_BREAKS)
        if url in counts:
            changes.append((tag.end, tag.end, BADGE.format(f"{counts[url]:,}")))
    return replaced(html, changes)


def with_part(url: str, part: str) -> str:
    """An address with one more part in its query, its own parts and its place kept."""
    front, hash_, place = url.partition("#")
    return f"{front}{'&' if '?' in front else '?'}{part}{hash_}{place}"


def parameters_problem(pattern: str) -> str:
    """Why a text is no pattern of parameters; empty where it is one."""
    for part in filter(None, pattern.strip().lstrip("?&").split("&")):
        key, sign, value = part.partition("=")
        if not sign or not re.fullmatch(r"[A-Za-z0-9_.-]+", key) or re.search(r"[\s<>\"#]", value):
            return f"“{part[:40]}” is not a parameter; write utm_source=newsletter&utm_campaign={{campaign}}."
        unknown = [n for n in re.findall(r"\{([^}]*)\}", value) if n not in PARAMETER_NAMES]
        if unknown:
            return f"“{{{unknown[0][:20]}}}” is not known; use {', '.join('{' + n + '}' for n in PARAMETER_NAMES)}."
    return ""
