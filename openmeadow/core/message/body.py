"""What a message says to one person: personal fields, tracked links, plain-text twin, footer."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from types import MappingProxyType

import css_inline
from inscriptis import get_text
from inscriptis.css_profiles import CSS_PROFILES
from inscriptis.html_engine import Inscriptis
from inscriptis.model.config import ParserConfig
from jinja2 import TemplateError, Undefined, meta, nodes
from jinja2.sandbox import SandboxedEnvironment
from lxml.html import document_fromstring

from openmeadow.core.errors import MeadowError

_HREF = re.compile(r"""(<a\b[^>]*?\bhref\s*=\s*)(["'])(https?://[^"'{}]+)\2""", re.I)
_BARE = re.compile(r"https?://[^\s<>\"')\]{}]+")
UNSUBSCRIBE, PREFERENCES = "unsubscribe_url", "preferences_url"
HOLDS = "holds"  # {% if holds("band is Strong") %} … {% endif %}: for those whom the rule holds
FALLBACKS = re.compile(r"\{\{[^}]*(?:\bor\b|\|\s*default)[^}]*\}\}|\{%.*?%\}", re.S)  # fields that can do without
_NO_PAGES: Mapping[str, str] = MappingProxyType({})


def _environment(html: bool) -> SandboxedEnvironment:
    return SandboxedEnvironment(autoescape=html, undefined=Undefined, trim_blocks=True)


_HTML, _TEXT = _environment(True), _environment(False)


class FieldMistake(MeadowError):
    """A personal field that cannot be filled in."""


def undeclared(text: str) -> set[str]:
    """The personal fields a text uses; none where it cannot be read."""
    try:
        return meta.find_undeclared_variables(_HTML.parse(text)) - {UNSUBSCRIBE, HOLDS}
    except TemplateError:
        return set()


def check_fields(text: str, known: set[str]) -> list[str]:
    """The personal fields of a text that nobody has, and its mistakes, as sentences."""
    try:
        _HTML.parse(text)
    except TemplateError as e:
        return [f"A personal field cannot be read: {e}."]
    return [f"Nobody has a field “{name}”." for name in sorted(undeclared(text) - known)]


def rules_in(text: str) -> list[str]:
    """The rules that parts of a text are shown by: the texts inside ``holds("…")``, each once."""
    try:
        calls = _HTML.parse(text).find_all(nodes.Call)
    except TemplateError:
        return []
    found = [
        c.args[0].value
        for c in calls
        if isinstance(c.node, nodes.Name) and c.node.name == HOLDS and c.args and isinstance(c.args[0], nodes.Const)
    ]
    return list(dict.fromkeys(str(f) for f in found))


def _read_out(html: str) -> str:
    """HTML as text. Tables that only lay out are taken apart first: what stands side by side is read one after the other,
    and a part shown by a rule does not take in what stands beside it."""
    if 'role="presentation"' not in html:
        return str(get_text(html, ParserConfig(display_links=True)))
    tree = document_fromstring(html)
    laid_out = {t for t in tree.iter("table") if t.get("role") == "presentation"}
    inside = [e for e in tree.iter("tr", "td", "th", "tbody") if next(e.iterancestors("table"), None) in laid_out]
    for e in (*inside, *laid_out):
        e.tag = "div"
        e.attrib.clear()  # its padding would be read as spaces
    config = ParserConfig(css=CSS_PROFILES["strict"].copy(), display_links=True)  # the usual one sets every div in
    return re.sub(r"\n{3,}", "\n\n", str(Inscriptis(tree, config).get_text()))


def twin(html: str) -> str:
    """The plain-text twin of an HTML body, links written out."""
    text = _read_out(html)
    return "\n".join(line.rstrip() for line in text.strip().splitlines()) + "\n"


def links(html: str) -> list[str]:
    """The addresses that links of the body lead to, in order, each once."""
    return list(dict.fromkeys(m.group(3) for m in _HREF.finditer(html)))


def with_footer(html: str, postal: str) -> str:
    """The body with an unsubscribe link and the postal address, unless it has them already."""
    if UNSUBSCRIBE in html:
        return html
    place = f"{postal}<br>" if postal else ""
    footer = (
        f'<p style="font:12px sans-serif;color:#55636B;max-width:560px;margin:32px auto;padding:0 24px">{place}'
        f'<a href="{{{{ {UNSUBSCRIBE} }}}}">Unsubscribe</a> · '
        f'<a href="{{{{ {PREFERENCES} }}}}">What we write to you</a></p>'
    )
    head, body, tail = html.rpartition("</body>")
    return f"{head}{footer}{body}{tail}" if body else html + footer


UNSUBSCRIBE_PLAIN = f"Unsubscribe: {{{{ {UNSUBSCRIBE} }}}}\nWhat we write to you: {{{{ {PREFERENCES} }}}}\n"


def plain_with_footer(plain: str, postal: str) -> str:
    if UNSUBSCRIBE in plain:
        return plain
    return plain.rstrip() + "\n\n-- \n" + (f"{postal}\n" if postal else "") + UNSUBSCRIBE_PLAIN


@dataclass(frozen=True)
class Said:
    """One person's message."""

    subject: str
    html: str
    plain: str


class Body:
    """A message compiled once, said many times. ``tracked`` turns an address into the number of its link."""

    def __init__(
        self,
        subject: str,
        preview: str,
        html: str,
        plain: str,
        postal: str,
        link_numbers: Mapping[str, int],
        trap: int = 0,
    ) -> None:
        full = with_footer(html, postal) if html.strip() else ""
        if preview and full:
            hidden = f'<div style="display:none;max-height:0;overflow:hidden">{preview}</div>'
            full = (
                re.sub(r"(<body[^>]*>)", lambda m: m.group(1) + hidden, full, count=1)
                if "<body" in full
                else hidden + full
            )
        full = css_inline.inline(full) if "<style" in full else full
        full = _HREF.sub(
            lambda m: (
                f"{m.group(1)}{m.group(2)}{{{{ _link({link_numbers[m.group(3)]}) }}}}{m.group(2)}"
                if m.group(3) in link_numbers
                else m.group(0)
            ),
            full,
        )
        ending = "{{ _trap() }}{{ _picture() }}"
        if full:
            full = full.replace("</body>", ending + "</body>") if "</body>" in full else full + ending
        text = plain_with_footer(plain or twin(html), postal)
        text = _BARE.sub(
            lambda m: f"{{{{ _link({link_numbers[m.group()]}) }}}}" if m.group() in link_numbers else m.group(), text
        )
        try:
            self._subject = _TEXT.from_string(subject)
            self._preview = _TEXT.from_string(preview)
            self._html = _HTML.from_string(full)
            self._plain = _TEXT.from_string(text)
        except TemplateError as e:
            raise FieldMistake(f"A personal field cannot be read: {e}.") from e
        self._has_trap = trap

    def say_preview(self, person: Mapping[str, object]) -> str:
        """The preview text for one person."""
        try:
            return " ".join(self._preview.render({**person, HOLDS: lambda rule: False}).split())
        except Exception as e:  # a template may fail in any way its author found
            raise FieldMistake(f"A personal field cannot be filled in: {e}.") from e

    def say(
        self,
        person: Mapping[str, object],
        link: Callable[[int], str],
        unsubscribe: str,
        picture: str = "",
        pages: Mapping[str, str] = _NO_PAGES,
        held: Collection[str] = (),
    ) -> Said:
        """``person`` holds the personal fields; ``link`` gives the tracked address of a link's number; ``pages`` the
        addresses of this person's own pages; ``held`` the rules that hold for them."""
        from markupsafe import Markup

        values = {
            **person,
            **pages,
            UNSUBSCRIBE: unsubscribe,
            HOLDS: lambda rule: rule in held,
            "_link": link,
            "_picture": lambda: Markup('<img src="{}" width="1" height="1" alt="">').format(picture) if picture else "",
            "_trap": lambda: (
                Markup('<a href="{}" style="display:none" tabindex="-1"></a>').format(link(self._has_trap))
                if self._has_trap
                else ""
            ),
        }
        try:
            return Said(
                " ".join(self._subject.render(values).split()), self._html.render(values), self._plain.render(values)
            )
        except Exception as e:  # a template may fail in any way its author found
            raise FieldMistake(f"A personal field cannot be filled in: {e}.") from e


__all__ = ["Body", "FieldMistake", "Said", "check_fields", "links", "twin", "with_footer"]
