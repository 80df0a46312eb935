"""The plain-text version of an HTML message, as somebody would write it in a letter: images by their text, each address
on a line of its own, no markup."""

from __future__ import annotations

import re

from lxml import etree
from lxml.html import HtmlElement, document_fromstring

from openmeadow.core.message.html_scan import put_away

_SKIPPED = {"head", "style", "script", "title", "template", "noscript"}
_BLOCKS = {
    *("p", "div", "h1", "h2", "h3", "h4", "h5", "h6", "ul", "ol", "li", "blockquote", "table", "tbody", "thead", "tfoot"),
    *(
        "tr",
        "section",
        "article",
        "header",
        "footer",
        "main",
        "aside",
        "nav",
        "address",
        "figure",
        "figcaption",
        "center",
    ),
    *("pre", "hr", "dl", "dt", "dd", "body", "html", "form", "fieldset", "caption"),
}
_TIGHT = {"li", "tr", "dt", "dd"}  # follow one another without an empty line
_HIDDEN = re.compile(r"display\s*:\s*none", re.I)
_STAND_IN = re.compile(r"omj(\d+)q")
_SPACES = re.compile(r"[ \t\r\n\f\u00a0\u200c\u034f]+")
_OPENS, _CLOSES = re.compile(r"\{%-?\s*(?:if|for)\b"), re.compile(r"\{%-?\s*end(?:if|for)\b")


class _Letter:
    """Puts the text together block by block."""

    def __init__(self, parts: list[str]) -> None:
        self.parts = parts
        self.out: list[str] = []  # lines; "" between paragraphs
        self.line = ""
        self.urls: dict[str, None] = {}  # in their order
        self.words: set[str] = set()  # of links in this block
        self.bullet = ""
        self.condition = 0
        self.numbers: dict[HtmlElement, int] = {}  # by ordered list: the last number given
        self.headed: dict[HtmlElement, bool] = {}  # by table: whether it has headings

    def text(self, words: str) -> None:
        for n in _STAND_IN.findall(words):
            part = self.parts[int(n)]
            self.condition += bool(_OPENS.match(part)) - bool(_CLOSES.match(part))
        flat = _SPACES.sub(" ", words)
        self.line += flat.lstrip() if not self.line or self.line.endswith("\n") else flat

    def link(self, words: str, href: str) -> None:
        """An address after its words: at the end of the block, or at once where it is shown on a condition."""
        shown = href.partition(":")[2].partition("?")[0] if href.lower().startswith(("mailto:", "tel:")) else href
        if not shown or shown.startswith("#") or shown.strip() == words or shown in self.line:
            return
        if self.condition > 0:
            self.line += f"\n{shown}\n"
        elif shown not in self.urls:
            self.urls[shown] = None
            self.words.add(words)

    def end_block(self, *, tight: bool = False) -> None:
        line = "\n".join(part.strip() for part in self.line.split("\n")).strip()
        if line or self.urls:
            alone = len(self.urls) == 1 and line in self.words and line
            if line:
                self.out.append(f"{self.bullet}{line}{':' if alone and line[-1:] not in '.:!?' else ''}")
            self.out += self.urls
            self.bullet = ""
            if not tight:
                self.out.append("")
        elif not tight and self.out and self.out[-1]:
            self.out.append("")
        self.line, self.urls, self.words = "", {}, set()


def _walk(e: HtmlElement, letter: _Letter) -> None:
    tag = e.tag if isinstance(e.tag, str) else ""
    if not tag or tag in _SKIPPED or _HIDDEN.search(e.get("style") or ""):
        pass
    elif tag == "br":
        letter.line += "\n"
    elif tag == "img":
        alt = (e.get("alt") or "").strip()
        if alt:
            letter.text(f" {alt} ")
    elif tag in ("td", "th"):
        _cell(e, letter)
    elif tag in _BLOCKS:
        letter.end_block(tight=tag in _TIGHT)
        if tag == "li":
            letter.bullet = _bullet(e, letter)
        _inside(e, letter)
        letter.end_block(tight=tag in _TIGHT)
    else:
        before = len(letter.line)
        _inside(e, letter)
        if tag == "a":
            letter.link(letter.line[before:].strip(), e.get("href") or "")
    if e.tail:
        letter.text(e.tail)


def _inside(e: HtmlElement, letter: _Letter) -> None:
    if e.text:
        letter.text(e.text)
    for child in e:
        _walk(child, letter)


def _bullet(e: HtmlElement, letter: _Letter) -> str:
    parent = e.getparent()
    if parent is not None and parent.tag == "ol":
        letter.numbers[parent] = letter.numbers.get(parent, 0) + 1
        return f"{letter.numbers[parent]}. "
    return "- "


def _cell(e: HtmlElement, letter: _Letter) -> None:
    """Cells of a table with headings stand in one line; all others only lay out, and follow one another."""
    table = next(e.iterancestors("table"), None)
    if table is not None and table not in letter.headed:
        letter.headed[table] = table.find(".//th") is not None
    if table is not None and letter.headed[table]:
        if letter.line.strip():
            letter.line = letter.line.rstrip() + ", "
        _inside(e, letter)
        return
    letter.end_block()
    _inside(e, letter)
    letter.end_block()


def plain_text(html: str) -> str:
    """The text of an HTML body; template parts stay where they are. "" for a body that says nothing."""
    text, parts = put_away(html, lambda n, _: f"omj{n}q")
    try:
        tree = document_fromstring(text or "<p></p>")
    except (etree.ParserError, ValueError):
        return ""
    letter = _Letter(parts)
    _walk(tree, letter)
    letter.end_block()
    lines = re.sub(r"\n{3,}", "\n\n", "\n".join(line.rstrip() for line in letter.out)).strip()
    return _STAND_IN.sub(lambda m: parts[int(m.group(1))], lines) + "\n" if lines else ""
