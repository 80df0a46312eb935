"""Hints on words: what reads like advertising that presses or shouts. Filters weigh senders far more; these are notes."""

from __future__ import annotations

import re

PRESSING = (
    "act now",
    "100% free",
    "risk-free",
    "risk free",
    "no obligation",
    "guaranteed",
    "last chance",
    "limited time",
    "while supplies last",
    "order now",
    "buy now",
    "don't miss out",
    "winner",
    "cash prize",
    "extra income",
    "double your",
    "lowest price",
    "this is not spam",
)
_PRESSING = re.compile(r"(?<!\w)(?:" + "|".join(map(re.escape, PRESSING)) + r")(?!\w)", re.I)
_CRIED = re.compile(r"(?<!\w)(?:FREE|NOW|SALE|OFFER|URGENT|WIN|WINNER)(?!\w)|[$€£]{2,9}")
_SHOUTED = re.compile(r"[A-Z]{2,30}(?:[ ,]{1,2}[A-Z]{2,30}){3,}")  # four words in a row
_BARE_LINK = {"here", "click", "click here", "tap here", "press here", "this link", "link", "read more", "more"}
SHOWN = 3


def of_text(text: str) -> list[str]:
    """Sentences on a subject or on the text of a message; none where nothing is worth a second look."""
    out = []
    said = dict.fromkeys(m.group().lower() for m in _PRESSING.finditer(text.replace("\u2019", "'")))
    said |= dict.fromkeys(_CRIED.findall(text))
    if said:
        few = ", ".join(f"“{p}”" for p in list(said)[:SHOWN])
        more = f" and {len(said) - SHOWN} more" if len(said) > SHOWN else ""
        out.append(f"{few}{more}: reads like advertising that presses. Say plainly what is offered.")
    if shouted := _SHOUTED.search(text):
        out.append(f"“{shouted.group()[:40]}” is in capital letters, which reads like shouting.")
    if "!!" in text:
        out.append("More than one exclamation mark in a row.")
    return out


def of_links(links: list[tuple[str, str]]) -> list[str]:
    """One sentence where links, as (target, words), do not say where they lead."""
    bare = list(dict.fromkeys(words for _, words in links if words.lower().rstrip(".!") in _BARE_LINK))
    if not bare:
        return []
    return [f"A link says only “{bare[0]}”. Say where it leads; screen readers read links by themselves."]
