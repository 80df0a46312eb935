"""Where the tags and attributes of an HTML text stand, so that one value can be changed and every other byte stays.

The rules are those of the HTML standard's tokenizer (13.2.5), as far as tags, attributes, comments and raw text go. Each
character is looked at a bounded number of times, whatever the text is. Template parts (``{{ … }}``, ``{% … %}``) may
stand anywhere and are no HTML.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from html.entities import html5

_OPENERS = {"{{": "}}", "{%": "%}", "{#": "#}"}
_OPENER = re.compile(r"\{[{%#]")
_NAME = re.compile(r"[^\s/>]*")
_BETWEEN = re.compile(r"[\s/]*")
_SPACE = re.compile(r"\s*")
_ATTRIBUTE = re.compile(r"=?[^\s/>=]*")
_UNQUOTED = re.compile(r"[^\s>]*")
_RAW = {"script", "style", "textarea", "title", "xmp", "noembed", "noframes"}
_REFERENCE = re.compile(r"&(?:#[xX][0-9a-fA-F]{1,8};?|#[0-9]{1,8};?|[a-zA-Z][a-zA-Z0-9]{0,40};?)")


@dataclass(frozen=True)
class TemplatePart:
    """One ``{{ … }}``, ``{% … %}`` or ``{# … #}`` from ``start`` to before ``end``."""

    start: int
    end: int
    text: str

    @property
    def is_value(self) -> bool:
        """Whether it stands for a value."""
        return self.text.startswith("{{")


@dataclass(frozen=True)
class Attribute:
    """``start`` and ``end`` are the place of the value as it is written; ``value`` is what it means."""

    name: str
    start: int
    end: int
    value: str


@dataclass(frozen=True)
class Tag:
    """A start tag. ``raw_end`` is where its raw text ends, for script, style and the like; else ``end``."""

    name: str
    start: int
    end: int
    raw_end: int
    attributes: tuple[Attribute, ...]

    def get(self, name: str) -> Attribute | None:
        """The first attribute of a name, which is the one that counts."""
        return next((a for a in self.attributes if a.name == name), None)


def template_parts(text: str) -> Iterator[TemplatePart]:
    """The template parts of a text, in order; from one that is not closed on, there are none."""
    at = 0
    while (found := _OPENER.search(text, at)) is not None:
        close = text.find(_OPENERS[found.group()], found.end())
        if close < 0:
            return
        at = close + 2
        yield TemplatePart(found.start(), at, text[found.start() : at])


def put_away(text: str, stand_in: Callable[[int, TemplatePart], str]) -> tuple[str, list[str]]:
    """The text with each template part replaced by what ``stand_in`` gives for its number, and the parts."""
    out: list[str] = []
    parts: list[str] = []
    at = 0
    for part in template_parts(text):
        out += [text[at : part.start], stand_in(len(parts), part)]
        parts.append(part.text)
        at = part.end
    return "".join([*out, text[at:]]), parts


def tags(html: str) -> Iterator[Tag]:
    """The start tags of a text, in order. What stands in comments, scripts and styles is no tag."""
    text, _ = put_away(html, lambda _, part: "x" * (part.end - part.start))
    low, at = text.lower(), 0
    while (at := text.find("<", at)) >= 0:
        after = text[at + 1 : at + 2]
        if text.startswith("<!--", at):
            close = text.find("-->", at + 4)
            at = close + 3
        elif after in ("!", "?", "/"):
            close = text.find(">", at + 2)
            at = close + 1
        elif after.isascii() and after.isalpha():
            tag = _tag(html, text, at)
            if tag is None:
                return
            close = tag.end
            if tag.name in _RAW:
                raw_end = low.find(f"</{tag.name}", tag.end)
                tag = Tag(tag.name, tag.start, tag.end, len(text) if raw_end < 0 else raw_end, tag.attributes)
            yield tag
            at = tag.raw_end
        else:
            close = at
            at += 1
        if close < 0:
            return


def _tag(html: str, text: str, start: int) -> Tag | None:
    """The start tag at a place; None where it is not closed."""
    name = _NAME.match(text, start + 1)
    assert name is not None
    found: list[Attribute] = []
    at = name.end()
    while True:
        at = _end(_BETWEEN, text, at)
        if at >= len(text):
            return None
        if text[at] == ">":
            return Tag(name.group().lower(), start, at + 1, at + 1, tuple(found))
        begin, at = at, _end(_ATTRIBUTE, text, at)
        word, equals = text[begin:at].lower(), _end(_SPACE, text, at)
        if text[equals : equals + 1] != "=":
            found.append(Attribute(word, at, at, ""))
            continue
        at = _end(_SPACE, text, equals + 1)
        quote = text[at : at + 1]
        if quote and quote in "\"'":
            close = text.find(quote, at + 1)
            if close < 0:
                return None
            value, at = (at + 1, close), close + 1
        else:
            value = at, _end(_UNQUOTED, text, at)
            at = value[1]
        found.append(Attribute(word, *value, unescaped(html[value[0] : value[1]])))


def _end(pattern: re.Pattern[str], text: str, at: int) -> int:
    found = pattern.match(text, at)
    return at if found is None else found.end()


def unescaped(value: str) -> str:
    """What an attribute's value means: character references replaced, by the rule for attributes (13.2.5.73): a name
    without its semicolon before a letter, a digit or an equals sign is text, as in ``?a=1&copy=2``."""

    def one(m: re.Match[str]) -> str:
        word = m.group()[1:]
        if word.startswith("#"):
            digits = word[1:].rstrip(";")
            code = int(digits[1:], 16) if digits[:1] in "xX" else int(digits)
            good = 0 < code < 0x110000 and not 0xD800 <= code < 0xE000
            return chr(code) if good else "\ufffd"
        following = value[m.end() : m.end() + 1]
        if word in html5 and (word.endswith(";") or following != "="):
            return html5[word]
        return m.group()

    return _REFERENCE.sub(one, value) if "&" in value else value


def replaced(html: str, changes: list[tuple[int, int, str]]) -> str:
    """The text with each place (start, end) given other words; every other byte stays."""
    out, at = [], 0
    for start, end, words in sorted(changes):
        out += [html[at:start], words]
        at = end
    return "".join([*out, html[at:]])
