"""Whose refusal is it? What a relay's answer is about: us, or the recipient (RFC 5321, 3463, 4954).

An answer before RCPT is about us. One to RCPT or to the end of DATA is about the recipient, unless its class says that
the sender is meant, or the same words come for many recipients of several providers in a row.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Hashable
from dataclasses import dataclass, field
from enum import StrEnum

IN_A_ROW = 20  # the same words for so many recipients in a row, at several providers, are about us
IN_A_ROW_POLICY = 5  # of the class that is about senders (5.7.x), fewer are enough
PROVIDERS = 2


class Stage(StrEnum):
    """Where in the dialogue with the relay an answer was given."""

    CONNECT = "connect"
    HELLO = "EHLO"
    STARTTLS = "STARTTLS"
    AUTH = "AUTH"
    SENDER = "MAIL FROM"
    RECIPIENT = "RCPT TO"
    CONTENT = "DATA"


class Whose(StrEnum):
    """Whom an answer is about. ``POLICY``: the sender as one provider sees it; nobody is marked as failed for it."""

    SENDER = "sender"
    POLICY = "policy"
    RECIPIENT = "recipient"


_ENHANCED = re.compile(r"(?<![\d.])([245])\.(\d{1,3})\.(\d{1,3})(?!\d|\.\d)")
_ABOUT_US = re.compile(
    r"relay(?:ing)? (?:access )?(?:is )?(?:denied|not (?:permitted|allowed)|prohibited)"
    r"|unable to relay|not (?:permitted|allowed) to relay"
    r"|authenticat(?:e|ion) (?:is )?(?:required|needed|credentials)|must (?:issue a starttls|authenticate)"
    r"|sender (?:address )?(?:rejected|denied|not (?:allowed|permitted|authori[sz]ed))|not authori[sz]ed to (?:send|relay)"
    r"|(?:quota|limit) (?:has been )?exceeded for (?:this )?(?:account|sender)",
    re.I,
)
_SIGN_IN_CODES = {"5.7.8", "5.7.9", "5.7.11", "4.7.12"}
_SIGN_IN_REPLIES = {"530", "534", "535", "538"}
_CHANGING = re.compile(r"<[^<>]{0,320}>|[^\s<>@]{1,320}@[^\s<>@]{1,255}|\d+")


def enhanced_code(code: str, text: str) -> str:
    """The enhanced status code (RFC 3463) in an answer, "" for none."""
    found = _ENHANCED.search(f"{code} {text[:1000]}")
    return found.group() if found else ""


def whose(stage: Stage, code: str, text: str) -> Whose:
    """Whom an answer of 4xx or 5xx is about. ``code`` is the reply code, ``text`` the relay's words."""
    if stage not in (Stage.RECIPIENT, Stage.CONTENT):
        return Whose.SENDER
    enhanced = enhanced_code(code, text)
    if code in _SIGN_IN_REPLIES or enhanced in _SIGN_IN_CODES:
        return Whose.SENDER
    policy = enhanced.startswith(("5.7.", "4.7."))
    if (policy or not enhanced) and code.startswith("5") and _ABOUT_US.search(text[:1000]):
        return Whose.SENDER
    return Whose.POLICY if policy else Whose.RECIPIENT


def same_words(code: str, text: str) -> str:
    """An answer without what changes from one recipient to the next: addresses and numbers."""
    return f"{code} {' '.join(_CHANGING.sub('…', text[:500]).split())}"


@dataclass
class RefusalRun:
    """The answers of one relay in a row, over all its connections. ``keys`` name the
    refused ones (delivery, number of the try); they are given out once, when the run turns out to be about us."""

    words: str = ""
    concluded: str = ""  # the words that were found to be about us; those still on their way are about us too
    keys: list[tuple[int, int]] = field(default_factory=list)
    places: set[Hashable] = field(default_factory=set)
    _guard: threading.Lock = field(default_factory=threading.Lock)

    def accepted(self) -> None:
        """Something was accepted: whatever was refused before was not about us."""
        with self._guard:
            self._begin("")
            self.concluded = ""

    def resume(self) -> None:
        """Sending begins again: the same words are to be judged anew."""
        with self._guard:
            self.concluded = ""

    def refused(self, code: str, text: str, about: Whose, place: Hashable, key: tuple[int, int]) -> list[tuple[int, int]]:
        """Note a refusal at a provider; the keys of the whole run where it is about us by now, else nothing."""
        with self._guard:
            words = same_words(code, text)
            if words == self.concluded:
                return [key]
            if words != self.words:
                self._begin(words)
            self.keys.append(key)
            self.places.add(place)
            enough = IN_A_ROW_POLICY if about is Whose.POLICY and code.startswith("5") else IN_A_ROW
            if len(self.keys) < enough or len(self.places) < PROVIDERS:
                return []
            out, self.concluded = self.keys, words
            self._begin("")
            return out

    def _begin(self, words: str) -> None:
        self.words, self.keys, self.places = words, [], set()
