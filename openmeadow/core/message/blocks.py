"""A message written by blocks (KINDS), and the workspace's layout around it.

Made for mail readers: tables for layout, styles in the elements, nothing that needs a script or an outside style sheet.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from html import escape

import nh3
from pydantic import JsonValue

from openmeadow.core.errors import Refused
from openmeadow.core.message.html_scan import put_away

Block = Mapping[str, JsonValue]  # its kind, and what the kind needs
KINDS = ("text", "image", "button", "links", "columns", "rule", "space", "footer")
ALIGNED = ("left", "center", "right")
MOST_LINKS, LEAST_SPACE, MOST_SPACE = 8, 4, 120
MOST_BLOCKS, WIDTH = 100, 600
INK, PAPER, QUIET = "#1E2B33", "#FFFFFF", "#55636B"
ACCENT = "#33478F"
_TAGS = {"p", "br", "b", "strong", "i", "em", "u", "a", "ul", "ol", "li", "h1", "h2", "h3", "blockquote"}
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}\Z")
_STAND_IN = re.compile(r"FIELD(\d{1,9})DLEIF")
_LEADS = re.compile(r"https?://|mailto:|tel:|\{\{", re.I)
_LOOK = {
    "p": "margin:0 0 14px",
    "h1": "margin:0 0 12px;font-size:28px;line-height:1.2",
    "h2": "margin:0 0 10px;font-size:22px;line-height:1.25",
    "h3": "margin:0 0 8px;font-size:18px;line-height:1.3",
    "ul": "margin:0 0 14px;padding-left:22px",
    "ol": "margin:0 0 14px;padding-left:22px",
    "blockquote": f"margin:0 0 14px;padding-left:14px;border-left:3px solid {QUIET}",
}
_FONT = "font:16px/1.55 Georgia,'Times New Roman',serif"


def cleaned(html: str) -> str:
    """Rich text as it may stand in a message: known tags only, no scripts, no styles; merge fields as they were."""
    text, fields = put_away(html, lambda n, _: f"FIELD{n}DLEIF")
    safe = nh3.clean(
        text, tags=_TAGS, attributes={"a": {"href"}}, url_schemes={"http", "https", "mailto", "tel"}, link_rel=None
    )
    return _STAND_IN.sub(lambda m: fields[int(m.group(1))] if int(m.group(1)) < len(fields) else "", safe)


def _address(href: str) -> str:
    """An address for an attribute: http, https, mail, telephone or a merge field; "" for anything else."""
    clean = href.strip()
    if not _LEADS.match(clean):
        return ""
    return clean if clean.startswith("{{") else escape(clean, quote=True)


def _text(html: str, colour: str) -> str:
    out = cleaned(html)
    for tag, look in _LOOK.items():
        out = out.replace(f"<{tag}>", f'<{tag} style="{look}">')
    return out.replace("<a ", f'<a style="color:{colour}" ')


def _image(b: Block, most: int) -> str:
    src, width = _address(str(b.get("src", ""))), min(most, max(20, int(str(b.get("width") or most))))
    if not src:
        return ""
    beside = {"center": "margin:0 auto;", "right": "margin:0 0 0 auto;"}.get(str(b.get("align")), "")
    alt = escape(str(b.get("alt", "")), quote=True)
    img = (
        f'<img src="{src}" alt="{alt}" width="{width}" '
        f'style="display:block;{beside}width:100%;max-width:{width}px;height:auto;border:0">'
    )
    href = _address(str(b.get("href", "")))
    return f'<a href="{href}">{img}</a>' if href else img


def _button(b: Block, colour: str) -> str:
    words, href = escape(str(b.get("words", ""))), _address(str(b.get("href", "")))
    return (
        f'<table role="presentation" cellpadding="0" cellspacing="0" border="0"{_beside(b)}><tr>'
        f'<td style="background:{colour};border-radius:4px;padding:12px 22px">'
        f'<a href="{href}" style="{_FONT};color:#FFFFFF;font-weight:bold;text-decoration:none">{words}</a>'
        "</td></tr></table>"
    )


def _beside(b: Block) -> str:
    """The attribute that puts an element left, in the middle or right; none for left."""
    align = str(b.get("align") or "left")
    if align not in ALIGNED:
        raise Refused(f"“{align[:20]}” is no alignment; use one of {', '.join(ALIGNED)}.")
    return "" if align == "left" else f' align="{align}"'


def _links(b: Block, colour: str) -> str:
    """Named links in a row: where else one can be followed or found."""
    some = several(b.get("links"))[:MOST_LINKS]
    shown = [
        f'<a href="{href}" style="color:{colour}">{escape(str(x.get("words", "")))}</a>'
        for x in some
        if (href := _address(str(x.get("href", "")))) and str(x.get("words", "")).strip()
    ]
    return f'<div style="font-size:14px;line-height:1.6">{" &nbsp;·&nbsp; ".join(shown)}</div>'


def _one(b: Block, colour: str, most: int, *, inside: bool = False) -> str:
    kind = b.get("kind")
    if kind == "text":
        inner = _text(str(b.get("html", "")), colour)
        if beside := _beside(b):
            inner = f"<div{beside}>{inner}</div>"
    elif kind == "links":
        inner = f"<div{_beside(b)}>{_links(b, colour)}</div>"
    elif kind == "space":
        high = min(MOST_SPACE, max(LEAST_SPACE, int(str(b.get("height") or 24))))
        inner = f'<div style="height:{high}px;line-height:{high}px;font-size:1px">&nbsp;</div>'
    elif kind == "image":
        inner = _image(b, most)
    elif kind == "button":
        inner = _button(b, colour)
    elif kind == "rule":
        inner = f'<div style="border-top:1px solid {QUIET};height:1px;line-height:1px;opacity:0.4">&nbsp;</div>'
    elif kind == "footer":
        look = f"font-size:13px;line-height:1.5;color:{QUIET}"
        inner = f'<div style="{look}">{_text(str(b.get("html", "")), colour)}</div>'
    elif kind == "columns" and not inside:
        half = (most - 24) // 2
        sides = ["".join(_row(x, colour, half, inside=True) for x in several(b.get(side))) for side in ("left", "right")]
        cell = '<td class="half" width="50%" valign="top" style="padding:0 {0}"><table role="presentation" width="100%" '
        cell += 'cellpadding="0" cellspacing="0" border="0">{1}</table></td>'
        inner = (
            '<table role="presentation" width="100%" cellpadding="0" cellspacing="0" border="0"><tr>'
            + cell.format("12px 0 0", sides[0])
            + cell.format("0 0 12px", sides[1])
            + "</tr></table>"
        )
    else:
        raise Refused(f"“{str(kind)[:40]}” is not a block that fits here; use one of {', '.join(KINDS)}.")
    rule = str(b.get("rule") or "").strip()
    if rule:
        quoted = rule.replace("\\", "\\\\").replace("'", "\\'")
        inner = f"{{% if matches('{quoted}') %}}{inner}{{% endif %}}"
    return inner


def _row(b: Block, colour: str, most: int, *, inside: bool = False) -> str:
    pad = "0 0 14px" if inside else "0 24px 14px"
    return f'<tr><td style="padding:{pad}">{_one(b, colour, most, inside=inside)}</td></tr>'


def several(value: object) -> list[Block]:
    """Blocks that are part of another; Refused where they are none."""
    if value is None:
        return []
    if not isinstance(value, list) or not all(isinstance(b, dict) for b in value):
        raise Refused("Blocks are a list.")
    return value


def layout_of(given: Mapping[str, object]) -> dict[str, str]:
    """The workspace's layout, every part there: logo, logo_alt, colour, paper, footer."""
    colour, paper = str(given.get("colour") or ACCENT), str(given.get("paper") or PAPER)
    for value in (colour, paper):
        if not _COLOUR.match(value):
            raise Refused(f"“{value[:20]}” is not a colour; write it like {ACCENT}.")
    return {
        "logo": str(given.get("logo") or ""),
        "logo_alt": str(given.get("logo_alt") or ""),
        "colour": colour,
        "paper": paper,
        "footer": cleaned(str(given.get("footer") or "")),
    }


def render(blocks: Sequence[Block], layout: Mapping[str, object]) -> str:
    """The HTML of a message. Raises Refused for what is no block."""
    inside = several(list(blocks))
    if len(inside) > MOST_BLOCKS:
        raise Refused(f"A message has at most {MOST_BLOCKS} blocks.")
    f, most = layout_of(layout), WIDTH - 48
    colour = f["colour"]
    rows = [_row(b, colour, most) for b in inside]
    if f["logo"]:
        logo = _image({"src": f["logo"], "alt": f["logo_alt"], "width": 180}, most)
        rows.insert(0, f'<tr><td style="padding:24px 24px 18px">{logo}</td></tr>')
    else:
        rows.insert(0, '<tr><td style="height:24px;line-height:24px">&nbsp;</td></tr>')
    if f["footer"]:
        rows.append(_row({"kind": "footer", "html": f["footer"]}, colour, most))
    return (
        '<!doctype html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        '<meta name="color-scheme" content="light dark">'
        "<style>@media (max-width:520px){.half{display:block!important;width:100%!important;padding:0!important}}</style>"
        f'</head><body style="margin:0;background:#F3F1EA"><table role="presentation" width="100%" cellpadding="0" '
        f'cellspacing="0" border="0"><tr><td align="center" style="padding:16px 8px"><table role="presentation" '
        f'width="{WIDTH}" cellpadding="0" cellspacing="0" border="0" style="width:100%;max-width:{WIDTH}px;'
        f'background:{f["paper"]};color:{INK};{_FONT}">{"".join(rows)}</table></td></tr></table></body></html>'
    )
