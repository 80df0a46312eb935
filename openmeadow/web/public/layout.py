"""The paper that public pages are written on."""

from __future__ import annotations

from html import escape

from flask import Response

_STYLE = """body{font:17px/1.5 "Source Sans 3",system-ui,sans-serif;background:#FAF8F2;color:#1E2B33;margin:8vh auto;
max-width:34em;padding:0 24px}h1{font-size:26px;line-height:1.2}label{display:block;margin:14px 0 0;font-weight:600}
input:not([type=checkbox]):not([type=radio]){display:block;width:100%;box-sizing:border-box;font:inherit;padding:8px 10px;
margin-top:4px;border:1px solid #8B938F;border-radius:4px;background:#FFFEFB;color:inherit}
fieldset{border:0;border-top:1px solid #CFC8B7;margin:22px 0 0;padding:8px 0 0}legend{font-weight:600;padding-right:10px}
.tick{display:flex;gap:10px;font-weight:400;align-items:baseline}
button{font:inherit;font-weight:600;background:#3A55A4;color:#fff;border:1px solid #3A55A4;border-radius:4px;
padding:10px 18px;margin-top:22px;cursor:pointer}button.plain{background:none;color:#9D2D20;border-color:#DCB1AA}
.wrong{color:#9D2D20}.good{color:#22603F}.small{font-size:15px;color:#55636B}
:focus-visible{outline:3px solid #3A55A4;outline-offset:2px}"""


def page(title: str, body: str, status: int = 200) -> Response:
    """A whole page; ``body`` is HTML already."""
    return Response(
        f'<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f"<title>{escape(title)}</title><style>{_STYLE}</style><main><h1>{escape(title)}</h1>{body}</main></html>",
        status,
        mimetype="text/html",
    )


def message(title: str, text: str, button: str = "", more: str = "", within: str = "") -> Response:
    """A sentence or two, and at most one button; ``within`` is HTML that stands in its form."""
    rest = f'<form method="post">{within}<button>{escape(button)}</button></form>' if button else ""
    return page(title, f"<p>{escape(text)}</p>{rest}{more}")


TEST = 0  # the number of a delivery in the addresses of a test message


def test_page() -> Response:
    """Where the addresses of a test message lead: nothing is recorded or changed."""
    return message("This was a test", "Nothing was changed. In a real message this link belongs to its recipient.")
