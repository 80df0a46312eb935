"""The links of a message: found in HTML and in plain text, and led through this workspace."""

from __future__ import annotations

import re
from collections.abc import Mapping

from openmeadow.core.message.html_scan import Attribute, replaced, tags

_WEB = re.compile(r"https?://[^\s{}]+\Z", re.I)  # a personal field in an address is no link to count
_BARE = re.compile(r"https?://[^\s<>\"{}]+", re.I)
_AFTER = ".,;:!?)]'*_"  # may end a sentence around an address


def _hrefs(html: str) -> list[tuple[Attribute, str]]:
    """The addresses on the web that links lead to, with their places."""
    out = []
    for tag in tags(html):
        href = tag.get("href") if tag.name in ("a", "area") else None
        if href is not None:
            url = re.sub(r"[\t\r\n]", "", href.value.strip())
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
    shorter = run
    while shorter and shorter[-1] in _AFTER:
        if shorter[-1] in ")]" and shorter.count(shorter[-1]) <= shorter.count("(" if shorter[-1] == ")" else "["):
            break  # it belongs to the address: …/seats_(upper)
        shorter = shorter[:-1]
        if shorter in known:
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
