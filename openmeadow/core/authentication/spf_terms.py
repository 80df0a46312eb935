"""SPF records read into terms, and macros (RFC 7208, sections 4.6, 5, 6, 7 and 12). No questions are asked here."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable
from dataclasses import dataclass

RESULTS = {"+": "pass", "-": "fail", "~": "softfail", "?": "neutral"}
MECHANISMS = ("all", "include", "a", "mx", "ptr", "ip4", "ip6", "exists")
ASKING = frozenset({"include", "a", "mx", "ptr", "exists", "redirect"})  # 4.6.4: terms that cause look-ups
LONGEST_NAME, LONGEST_LABEL = 253, 63

_TERM = re.compile(r"([+\-?~]?)([A-Za-z][A-Za-z0-9\-_.]*)(.*)", re.S)
_MACRO = re.compile(r"%\{([slodiphcrtvSLODIPHCRTV])([0-9]*)([rR]?)([.\-+,/_=]*)\}|%([%_\-])")
_DUAL = re.compile(r"(?:/(0|[1-9][0-9]?))?(?://(0|[1-9][0-9]{0,2}))?\Z")
_TOP = re.compile(r"\.(?:[A-Za-z0-9]*[A-Za-z][A-Za-z0-9]*|[A-Za-z0-9]+-[A-Za-z0-9\-]*[A-Za-z0-9])\.?\Z")
_QUAD = re.compile(r"(?:(?:0|[1-9][0-9]{0,2})\.){3}(?:0|[1-9][0-9]{0,2})\Z")
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_ONLY_IN_EXP = frozenset("crt")

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


class Malformed(Exception):
    """A term that is not valid: permerror. The text is part of a sentence."""


@dataclass(frozen=True)
class Term:
    """A mechanism. ``target`` is a domain-spec not yet expanded ("" for the current domain)."""

    text: str
    result: str
    name: str
    target: str = ""
    network: Network | None = None
    cidr4: int = 32
    cidr6: int = 128


@dataclass(frozen=True)
class Record:
    """``redirect`` and ``exp`` are domain-specs, None where the modifier is absent."""

    terms: tuple[Term, ...]
    redirect: str | None = None
    exp: str | None = None


def is_spf(text: str) -> bool:
    """4.5: the version section must end at a space or at the end."""
    return text[:6].lower() == "v=spf1" and text[6:7] in ("", " ")


def check_macros(text: str, *, explanation: bool = False) -> None:
    """7.1: the syntax of a macro-string; letters c, r and t stand in explanations only."""
    at = 0
    while at < len(text):
        c = text[at]
        if c == "%":
            m = _MACRO.match(text, at)
            if m is None:
                raise Malformed(f"“{text[at : at + 8]}” is not a valid macro")
            if m.group(2) and int(m.group(2)) == 0:
                raise Malformed(f"“{m.group()}” keeps no label")
            if m.group(1) and m.group(1).lower() in _ONLY_IN_EXP and not explanation:
                raise Malformed(f"“{m.group()}” is allowed in explanations only")
            at = m.end()
        elif "!" <= c <= "~" or (explanation and c == " "):
            at += 1
        else:
            raise Malformed(f"“{text[max(0, at - 8) : at + 1]!a}” contains a character that is not allowed")


def _domain_spec(text: str, term: str) -> str:
    """7.1: a macro-string that ends in a macro or in a dot and a label that is not all digits."""
    if not text:
        raise Malformed(f"“{term}” has no domain")
    check_macros(text)
    last = None
    for m in _MACRO.finditer(text):
        last = m
    if last is not None and last.end() == len(text) and last.group(1):
        return text
    if not _TOP.search(text):
        raise Malformed(f"“{term}” does not end in a domain name")
    return text


def _mechanism(text: str, sign: str, name: str, rest: str) -> Term:
    result = RESULTS[sign or "+"]
    if name == "all":
        if rest:
            raise Malformed(f"“{text}”: nothing may follow “all”")
        return Term(text, result, name)
    if name in ("ip4", "ip6"):
        return Term(text, result, name, network=_network(text, name, rest))
    if name in ("include", "exists"):
        if not rest.startswith(":"):
            raise Malformed(f"“{text}” has no domain")
        return Term(text, result, name, _domain_spec(rest[1:], text))
    if name == "ptr":
        if rest and not rest.startswith(":"):
            raise Malformed(f"“{text}”: ptr can have a domain only")
        return Term(text, result, name, _domain_spec(rest[1:], text) if rest else "")
    cut = _DUAL.search(rest)
    assert cut is not None  # it matches the empty end too
    target, c4, c6 = rest[: cut.start()], cut.group(1), cut.group(2)
    if target and not target.startswith(":"):
        raise Malformed(f"“{text}” is not valid")
    cidr4, cidr6 = int(c4 or 32), int(c6 or 128)
    if cidr4 > 32 or cidr6 > 128:
        raise Malformed(f"“{text}”: the prefix is too long")
    return Term(text, result, name, _domain_spec(target[1:], text) if target else "", None, cidr4, cidr6)


def _network(text: str, name: str, rest: str) -> Network:
    most = 32 if name == "ip4" else 128
    value, slash, length = rest[1:].partition("/")
    wrong = Malformed(f"“{text}” is not a network")
    if not rest.startswith(":") or (slash and not re.fullmatch(r"0|[1-9][0-9]{0,2}", length)):
        raise wrong
    bits = int(length) if slash else most
    if bits > most or (name == "ip4" and not _QUAD.match(value)) or "%" in value:
        raise wrong
    try:
        kind = ipaddress.IPv4Network if name == "ip4" else ipaddress.IPv6Network
        return kind((value, bits), strict=False)
    except ValueError:
        raise wrong from None


def read(text: str) -> Record:
    """A record's terms, all of them read before any is used (4.6): a mistake anywhere is a permerror."""
    terms: list[Term] = []
    modifiers: dict[str, str] = {}
    for word in text[6:].split(" "):
        if not word:
            continue
        m = _TERM.fullmatch(word)
        if m is None:
            raise Malformed(f"“{word[:40]}” is not a valid SPF term")
        sign, name, rest = m.groups()
        if rest.startswith("="):
            _modifier(word, sign, name.lower(), rest[1:], modifiers)
            continue
        if name.lower() not in MECHANISMS:
            raise Malformed(f"“{word[:40]}” is not a valid SPF term")
        terms.append(_mechanism(word, sign, name.lower(), rest))
    return Record(tuple(terms), modifiers.get("redirect"), modifiers.get("exp"))


def _modifier(word: str, sign: str, name: str, value: str, modifiers: dict[str, str]) -> None:
    if sign:
        raise Malformed(f"“{word[:40]}” is not a valid SPF term")
    if name in ("redirect", "exp"):
        if name in modifiers:
            raise Malformed(f"{name} appears twice")
        modifiers[name] = _domain_spec(value, word)
    else:
        check_macros(value)


def valid_name(name: str) -> bool:
    """4.3: whether a name can be asked for: labels of 1 to 63 octets, 253 in all, at least two labels."""
    if name.startswith("["):
        return False  # an address literal
    labels = name.removesuffix(".").split(".")
    return (
        len(name.removesuffix(".")) <= LONGEST_NAME
        and len(labels) > 1
        and all(0 < len(label) <= LONGEST_LABEL for label in labels)
    )


def needs_validated_name(text: str) -> bool:
    """Whether expanding asks for %{p}."""
    return any((m.group(1) or "").lower() == "p" for m in _MACRO.finditer(text))


def _escaped(value: str) -> str:
    """7.3: everything but RFC 3986 unreserved characters percent-encoded."""
    octets = value.encode("utf-8", "replace")
    return "".join(chr(b) if chr(b) in _UNRESERVED else f"%{b:02X}" for b in octets)


def expand(text: str, letter: Callable[[str], str]) -> str:
    """7.3: a macro-string filled in; ``letter`` gives the value of a lower-case macro letter."""

    def one(m: re.Match[str]) -> str:
        if m.group(5):
            return {"%": "%", "_": " ", "-": "%20"}[m.group(5)]
        value, keep, turn, delimiters = letter(m.group(1).lower()), m.group(2), m.group(3), m.group(4)
        if keep or turn or delimiters:
            parts = re.split("[" + re.escape(delimiters or ".") + "]", value)
            parts = parts[::-1] if turn else parts
            value = ".".join(parts[-int(keep) :] if keep else parts)
        return _escaped(value) if m.group(1).isupper() else value

    return _MACRO.sub(one, text)


def shortened(name: str) -> str:
    """7.3: a name over 253 octets loses labels from the left."""
    name = name.removesuffix(".")
    while len(name) > LONGEST_NAME and "." in name:
        name = name.partition(".")[2]
    return name
