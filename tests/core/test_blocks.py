"""Messages by blocks: what they become, and that nothing written into them gets out of its place."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.errors import Refused
from openmeadow.core.message.blocks import cleaned, layout_of, render
from openmeadow.core.message.lint import page_of
from openmeadow.core.message.personalisation import Body, check_fields, plain_text_of, rules_in

BLOCKS = [
    {"kind": "text", "html": '<h1>Two evenings</h1><p>Dear {{ first_name or "friend" }}, <script>x</script>come.</p>'},
    {"kind": "image", "src": "https://pics.example/hall.png", "alt": "The “hall”", "href": "https://a.example/"},
    {"kind": "columns", "left": [{"kind": "text", "html": "<p>Left</p>"}], "right": [{"kind": "rule"}]},
    {"kind": "button", "words": "Seats & more", "href": "https://a.example/seats", "rule": 'label is "Patron\'s"'},
    {"kind": "footer", "html": '<p><a href="{{ unsubscribe_url }}">Leave</a></p>'},
]


def test_what_blocks_become() -> None:
    html = render(BLOCKS, {"logo": "https://pics.example/logo.png", "colour": "#112233", "footer": "<p>Quay 1</p>"})
    page = page_of(html)
    assert "x</script>" not in html and not page.dropped and [a for _, a in page.images] == ["", "The “hall”"]
    assert ("https://a.example/seats", "Seats & more") in page.links
    assert rules_in(html) == ['label is "Patron\'s"'] and not check_fields(html, {"first_name"})
    body = Body("S", "", html, "", "", {"https://a.example/seats": 7})
    patron = body.say({"first_name": "Ann"}, "link {}".format, "https://u.example/", held={'label is "Patron\'s"'})
    other = body.say({"first_name": ""}, str, "https://u.example/")
    assert "link 7" in patron.html and "Dear Ann," in patron.html and "Dear friend," in other.plain
    assert "Seats" not in other.html and "Quay 1" in plain_text_of(html)


@pytest.mark.parametrize(
    ("blocks", "words"),
    [
        ([{"kind": "video"}], "is not a block"),
        ([{"kind": "columns", "left": [{"kind": "columns"}]}], "is not a block"),
        ([{"kind": "columns", "left": "x"}], "are a list"),
        ([{"kind": "rule"}] * 101, "at most 100"),
    ],
)
def test_what_is_no_block(blocks: list[dict[str, object]], words: str) -> None:
    with pytest.raises(Refused, match=words):
        render(blocks, {})
    with pytest.raises(Refused, match="is not a colour"):
        layout_of({"colour": "red;x"})


def test_links_space_and_alignment() -> None:
    links = [
        {"words": "Programme", "href": "https://x.example/p"},
        {"words": "No", "href": "javascript:1"},
        {"words": " "},
    ]
    html = render(
        [
            {"kind": "links", "align": "center", "links": links},
            {"kind": "space", "height": 4000},
            {"kind": "text", "html": "<p>Hello</p>", "align": "right"},
            {"kind": "image", "src": "https://x.example/i.png", "alt": "Hall", "width": 120, "align": "center"},
            {"kind": "button", "words": "Book", "href": "https://x.example/b", "align": "right"},
        ],
        {},
    )
    assert '<div align="center">' in html and "Programme" in html and "javascript" not in html and html.count(">No<") == 0
    assert "height:120px" in html and '<div align="right"><p' in html
    assert "display:block;margin:0 auto;width:100%;max-width:120px" in html
    assert 'border="0" align="right"' in html


@given(st.text(alphabet=st.characters(codec="utf-8"), max_size=60))
def test_nothing_gets_out_of_its_place(text: str) -> None:
    html = render(
        [
            {"kind": "text", "html": text},
            {"kind": "image", "src": f"https://{text}", "alt": text, "href": text},
            {"kind": "button", "words": text, "href": text},
        ],
        {"logo": text, "logo_alt": text, "footer": text},
    )
    page = page_of(html)
    assert not page.dropped and "javascript:" not in "".join(h for h, _ in page.links).lower()
    assert "<script" not in cleaned(text).lower()


WORDS = st.text(st.characters(codec="ascii", categories=("L", "N")), min_size=3, max_size=12)
RULES = st.sampled_from(["", "", "band is Strong", "has label \"a 'quoted' one\"", 'in list "x\\y"'])
PICTURE = "https://p.example/a.png"
HREF = st.sampled_from(["https://a.example/x?y=1&z=2", "{{ preferences_url }}", "mailto:a@quay.example"])


def plain_blocks() -> st.SearchStrategy[dict[str, object]]:
    return st.one_of(
        st.fixed_dictionaries({"kind": st.just("text"), "html": WORDS.map("<p>{}</p>".format), "rule": RULES}),
        st.fixed_dictionaries({"kind": st.just("button"), "words": WORDS, "href": HREF, "rule": RULES}),
        st.fixed_dictionaries(
            {"kind": st.just("image"), "src": st.just("https://p.example/a.png"), "alt": WORDS, "rule": RULES}
        ),
        st.just({"kind": "rule"}),
        st.fixed_dictionaries({"kind": st.just("footer"), "html": WORDS.map("<p>{}</p>".format)}),
    )


def any_blocks() -> st.SearchStrategy[list[dict[str, object]]]:
    columns = st.fixed_dictionaries(
        {"kind": st.just("columns"), "left": st.lists(plain_blocks(), max_size=3), "right": st.lists(plain_blocks(), max_size=3),
         "rule": RULES}
    )  # fmt: skip
    return st.lists(st.one_of(plain_blocks(), columns), max_size=8)


def said_by(blocks: list[dict[str, object]], held: set[str]) -> list[str]:
    """The words that a person sees for whom these rules hold, by walking through the blocks."""
    out: list[str] = []
    for b in blocks:
        if b.get("rule") and b["rule"] not in held:
            continue
        for side in ("left", "right"):
            out += said_by(b.get(side, []), held)  # type: ignore[arg-type]
        text = str(b.get("html") or b.get("words") or "")
        if text:
            out.append(text.removeprefix("<p>").removesuffix("</p>"))
    return out


@given(any_blocks(), st.sets(RULES.filter(bool)), st.booleans())
def test_everybody_sees_what_is_meant_for_them(blocks: list[dict[str, object]], held: set[str], framed: bool) -> None:
    """In HTML and in the plain text, in their order; parts by rule only for those of whom it holds."""
    html = render(blocks, {"footer": "<p>Quay1</p>"} if framed else {})
    assert set(rules_in(html)) == {str(r) for r in rules_of(blocks)}
    said = Body("S", "", html, "", "", {}).say(
        {}, str, "https://u.example/", pages={"preferences_url": "https://p.example/"}, held=held
    )
    expected = said_by(blocks, held)
    page = page_of(said.html)
    shown = " ".join(" ".join([*page.text, *page.hidden]).split())
    at = 0
    for word in expected:
        at = shown.index(word, at) + len(word)
    assert not page.dropped and "matches" not in said.html and "{%" not in said.html
    missing = [w for w in expected if w not in said.plain]
    assert not missing, "the plain text says it too"
    hidden = set(said_by(blocks, {str(r) for r in rules_of(blocks)})) - set(expected)
    assert not [w for w in hidden if f">{w}<" in said.html], "and nothing that is meant for others"


def rules_of(blocks: list[dict[str, object]]) -> list[object]:
    out = [b["rule"] for b in blocks if b.get("rule")]
    for b in blocks:
        for side in ("left", "right"):
            out += rules_of(b.get(side, []))  # type: ignore[arg-type]
    return out
