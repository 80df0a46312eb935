"""Style sheets of a message: written into the elements for readers that drop them, and kept for those that do not."""

from __future__ import annotations

import re

import css_inline

from openmeadow.core.message.html_scan import replaced, tags, template_parts

_INLINER = css_inline.CSSInliner(keep_style_tags=True, load_remote_stylesheets=False)
_STAND_IN = re.compile(r"<!--omj(\d+)q-->|omj(\d+)q(?:=\"\")?")


def inlined(html: str) -> str:
    """The HTML with its styles in the elements too. The style sheets stay, so that ``@media`` and dark-mode rules arrive.
    Template parts are put away meanwhile: the parser would move them out of tables and write their quotes anew."""
    if "<style" not in html.lower():
        return html
    kept: list[str] = []

    def stand_in(start: int, end: int, *, in_text: bool) -> tuple[int, int, str]:
        kept.append(html[start:end])
        return start, end, f"<!--omj{len(kept) - 1}q-->" if in_text else f"omj{len(kept) - 1}q"

    changes, parts = [], list(template_parts(html))
    at = 0
    for tag in tags(html):
        while at < len(parts) and parts[at].end <= tag.start:
            changes.append(stand_in(parts[at].start, parts[at].end, in_text=not parts[at].is_value))
            at += 1
        inside = []
        while at < len(parts) and parts[at].start < tag.raw_end:
            inside.append(parts[at])
            at += 1
        # statements between the attributes stand for all that is between them: the order of attributes is not kept
        loose = [p for p in inside if p.start < tag.end and not any(a.start <= p.start < a.end for a in tag.attributes)]
        first, last = (loose[0].start, loose[-1].end) if loose else (0, 0)
        if loose:
            changes.append(stand_in(first, last, in_text=False))
        changes += [stand_in(p.start, p.end, in_text=False) for p in inside if not first <= p.start < last]
    changes += [stand_in(p.start, p.end, in_text=not p.is_value) for p in parts[at:]]
    return _STAND_IN.sub(lambda m: kept[int(m.group(1) or m.group(2))], _INLINER.inline(replaced(html, changes)))
