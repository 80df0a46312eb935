"""What a message says to one person: merge fields, tracked links, plain-text version, footer."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from jinja2 import TemplateError, meta, nodes
from markupsafe import Markup, escape

from openmeadow.core.message.html_scan import TemplatePart, put_away, tags, template_parts
from openmeadow.core.message.links import links, tracked_html, tracked_plain
from openmeadow.core.message.plain_text import plain_text
from openmeadow.core.message.styles import inlined
from openmeadow.core.message.templates import HTML, TEXT, FieldMistake, mistake

UNSUBSCRIBE, PREFERENCES = "unsubscribe_url", "preferences_url"
PREVIEW_LENGTH = 110  # characters that mailbox lists show at most
MATCHES = "matches"  # {% if matches("band is Strong") %} … {% endif %}: for those whom the rule holds
_CAN_DO_WITHOUT = re.compile(r"\bor\b|\|\s*d(?:efault)?\b")
_NO_PAGES: Mapping[str, str] = MappingProxyType({})


def undeclared(text: str) -> set[str]:
    """The merge fields a text uses; none where it cannot be read."""
    try:
        return meta.find_undeclared_variables(HTML.parse(text)) - {UNSUBSCRIBE, MATCHES}
    except TemplateError:
        return set()


def without_fallbacks(text: str) -> str:
    """A text without its statements, and without the fields that say what stands where they are empty."""
    kept = ((m.text if m.is_value and not _CAN_DO_WITHOUT.search(m.text) else "") for m in template_parts(text))
    return "".join(kept)


def check_fields(text: str, known: set[str]) -> list[str]:
    """The merge fields of a text that nobody has, and its mistakes, as sentences."""
    try:
        HTML.parse(text)
    except TemplateError as e:
        return [mistake(e)]
    return [f"There is no field “{name}”." for name in sorted(undeclared(text) - known)]


def conditions_changed(text: str, change: Callable[[str], str]) -> str:
    """A text with each rule inside ``matches("…")`` as ``change`` has it; all else stays byte for byte."""

    def one(_: int, part: TemplatePart) -> str:
        if MATCHES not in part.text:
            return part.text
        out = []
        try:
            for _line, kind, value in HTML.lex(part.text):
                if kind == "string":
                    said = value[1:-1].encode("ascii", "backslashreplace").decode("unicode-escape")
                    new = change(said)
                    quote = value[0]
                    escaped = new.replace("\\", "\\\\").replace(quote, f"\\{quote}")
                    out.append(value if new == said else f"{quote}{escaped}{quote}")
                else:
                    out.append(value)
        except (TemplateError, UnicodeError):  # a mistake of its own: said when the message is looked at
            return part.text
        return "".join(out)

    return put_away(text, one)[0]


def field_renamed(text: str, before: str, after: str) -> str:
    """A text that names another merge field instead of one; all else stays byte for byte."""
    if before not in text:
        return text

    def one(_: int, part: TemplatePart) -> str:
        out, last = [], ""
        try:
            for _line, kind, value in HTML.lex(part.text):
                is_field = kind == "name" and value == before and last not in (".", "|", "is")
                out.append(after if is_field else value)
                last = value if value.strip() else last
        except TemplateError:  # a mistake of its own: said when the message is looked at
            return part.text
        return "".join(out)

    return put_away(text, one)[0]


def rules_in(text: str) -> list[str]:
    """The rules that parts of a text are shown by: the texts inside ``matches("…")``, each once."""
    try:
        calls = HTML.parse(text).find_all(nodes.Call)
    except TemplateError:
        return []
    found = [
        c.args[0].value
        for c in calls
        if isinstance(c.node, nodes.Name) and c.node.name == MATCHES and c.args and isinstance(c.args[0], nodes.Const)
    ]
    return list(dict.fromkeys(str(f) for f in found))


def one_line(text: str) -> str:
    """A text for a header: no line breaks, no control characters (RFC 5322 2.2)."""
    return "".join(c for c in " ".join(text.split()) if unicodedata.category(c) not in ("Cc", "Cs", "Zl", "Zp"))


def plain_text_of(html: str) -> str:
    """The plain-text version of an HTML body, addresses written out."""
    return plain_text(html) or "\n"


def with_footer(html: str, postal: str) -> str:
    """The body with an unsubscribe link and the postal address, unless it has them already."""
    if UNSUBSCRIBE in html:
        return html
    place = f"{postal}<br>" if postal else ""
    footer = (
        f'<p style="font:12px sans-serif;color:#55636B;max-width:560px;margin:32px auto;padding:0 24px">{place}'
        f'<a href="{{{{ {UNSUBSCRIBE} }}}}">Unsubscribe</a> · '
        f'<a href="{{{{ {PREFERENCES} }}}}">Email preferences</a></p>'
    )
    head, body, tail = html.rpartition("</body>")
    return f"{head}{footer}{body}{tail}" if body else html + footer


UNSUBSCRIBE_PLAIN = f"Unsubscribe: {{{{ {UNSUBSCRIBE} }}}}\nEmail preferences: {{{{ {PREFERENCES} }}}}\n"


def plain_with_footer(plain: str, postal: str) -> str:
    """A plain text with the postal address and the unsubscribe link below it, where it has none yet."""
    if UNSUBSCRIBE in plain:
        return plain
    return plain.rstrip() + "\n\n-- \n" + (f"{postal}\n" if postal else "") + UNSUBSCRIBE_PLAIN


_PADDING = "&#847;&zwnj;&nbsp;" * PREVIEW_LENGTH  # nothing to see, and no room for the body's first words


def _with_preview(html: str, preview: str) -> str:
    """The body with its preview text, hidden, at its beginning. Mailbox lists fill up the line after it: with padding."""
    at, text = 0, []
    for part in template_parts(preview):
        text += [str(escape(preview[at : part.start])), part.text]
        at = part.end
    text.append(str(escape(preview[at:])))
    style = "display:none;max-height:0;overflow:hidden"
    hidden = f'<div style="{style}">{"".join(text)}</div><div style="{style}" aria-hidden="true">{_PADDING}</div>'
    place = next((t.end for t in tags(html) if t.name == "body"), 0)
    return f"{html[:place]}{hidden}{html[place:]}"


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
            full = _with_preview(full, preview)
        full = tracked_html(inlined(full), link_numbers)
        ending = "{{ _trap() }}{{ _image() }}"
        if full:
            full = full.replace("</body>", ending + "</body>") if "</body>" in full else full + ending
        text = tracked_plain(plain_with_footer(plain or plain_text_of(html), postal), link_numbers)
        try:
            self._subject = TEXT.from_string(subject)
            self._preview = TEXT.from_string(preview)
            self._html = HTML.from_string(full)
            self._plain = TEXT.from_string(text)
        except TemplateError as e:
            raise FieldMistake(mistake(e)) from e
        self._has_trap = trap

    def say_preview(self, person: Mapping[str, object]) -> str:
        """The preview text for one person."""
        try:
            return " ".join(self._preview.render({**person, MATCHES: lambda rule: False}).split())
        except Exception as e:  # a template may fail in any way its author found
            raise FieldMistake(f"A merge field cannot be filled in: {e}.") from e

    def say(
        self,
        person: Mapping[str, object],
        link: Callable[[int], str],
        unsubscribe: str,
        image: str = "",
        pages: Mapping[str, str] = _NO_PAGES,
        held: Collection[str] = (),
    ) -> Said:
        """``person`` holds the merge fields; ``link`` gives the tracked address of a link's number; ``pages`` the
        addresses of this person's own pages; ``held`` the rules that hold for them."""
        values = {
            **person,
            **pages,
            UNSUBSCRIBE: unsubscribe,
            MATCHES: lambda rule: rule in held,
            "_link": link,
            "_image": lambda: Markup('<img src="{}" width="1" height="1" alt="">').format(image) if image else "",
            "_trap": lambda: (
                Markup('<a href="{}" style="display:none" tabindex="-1"></a>').format(link(self._has_trap))
                if self._has_trap
                else ""
            ),
        }
        try:
            return Said(
                " ".join(self._subject.render(values).split()),
                self._html.render(values),
                re.sub(r"\n{3,}", "\n\n", self._plain.render(values)),
            )
        except Exception as e:  # a template may fail in any way its author found
            raise FieldMistake(f"A merge field cannot be filled in: {e}.") from e


__all__ = ["Body", "FieldMistake", "Said", "check_fields", "links", "plain_text_of", "with_footer"]
