"""Messages by blocks: what they become, and that nothing written into them gets out of its place."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.errors import Refused
from openmeadow.core.message.blocks import cleaned, frame_of, render
from openmeadow.core.message.body import Body, check_fields, rules_in, twin
from openmeadow.core.message.checks import page_of

BLOCKS = [
    {"kind": "text", "html": '<h1>Two evenings</h1><p>Dear {{ first_name or "friend" }}, <script>x</script>come.</p>'},
    {"kind": "picture", "src": "https://pics.example/hall.png", "alt": "The “hall”", "href": "https://a.example/"},
    {"kind": "columns", "left": [{"kind": "text", "html": "<p>Left</p>"}], "right": [{"kind": "rule"}]},
    {"kind": "button", "words": "Seats & more", "href": "https://a.example/seats", "rule": 'label is "Patron\'s"'},
    {"kind": "footer", "html": '<p><a href="{{ unsubscribe_url }}">Leave</a></p>'},
]


def test_what_blocks_become() -> None:
    html = render(BLOCKS, {"logo": "https://pics.example/logo.png", "colour": "#112233", "footer": "<p>Quay 1</p>"})
    page = page_of(html)
    assert "x</script>" not in html and not page.dropped and [a for _, a in page.pictures] == ["", "The “hall”"]
    assert ("https://a.example/seats", "Seats & more") in page.links
    assert rules_in(html) == ['label is "Patron\'s"'] and not check_fields(html, {"first_name"})
    body = Body("S", "", html, "", "", {"https://a.example/seats": 7})
    patron = body.say({"first_name": "Ann"}, "link {}".format, "https://u.example/", held={'label is "Patron\'s"'})
    other = body.say({"first_name": ""}, str, "https://u.example/")
    assert "link 7" in patron.html and "Dear Ann," in patron.html and "Dear friend," in other.plain
    assert "Seats" not in other.html and "Quay 1" in twin(html)


@pytest.mark.parametrize(
    ("blocks", "words"),
    [
        ([{"kind": "video"}], "is no block"),
        ([{"kind": "columns", "left": [{"kind": "columns"}]}], "is no block"),
        ([{"kind": "columns", "left": "x"}], "are a list"),
        ([{"kind": "rule"}] * 101, "at most 100"),
    ],
)
def test_what_is_no_block(blocks: list[dict[str, object]], words: str) -> None:
    with pytest.raises(Refused, match=words):
        render(blocks, {})
    with pytest.raises(Refused, match="no colour"):
        frame_of({"colour": "red;x"})


@given(st.text(alphabet=st.characters(codec="utf-8"), max_size=60))
def test_nothing_gets_out_of_its_place(text: str) -> None:
    html = render(
        [
            {"kind": "text", "html": text},
            {"kind": "picture", "src": f"https://{text}", "alt": text, "href": text},
            {"kind": "button", "words": text, "href": text},
        ],
        {"logo": text, "logo_alt": text, "footer": text},
    )
    page = page_of(html)
    assert not page.dropped and "javascript:" not in "".join(h for h, _ in page.links).lower()
    assert "<script" not in cleaned(text).lower()
