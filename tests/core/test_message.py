"""What a message says, how it is signed, and what comes back as a report."""

from __future__ import annotations

import email
import email.policy
import html
import re

import dkim
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.authentication.dkim import Signer, new_key, record_text
from openmeadow.core.message import lint
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.html_scan import tags
from openmeadow.core.message.links import links, parameters_problem, tracked_html, tracked_plain
from openmeadow.core.message.personalisation import Body, FieldMistake, Said, check_fields
from openmeadow.core.message.plain_text import plain_text

HTML = (
    '<html><body><p>Dear {{ first_name or "friend" }},</p><a href="https://x.example/a?b=1&amp;c=2">one</a> '
    "<a class=\"k\" href='https://x.example/b'>two</a></body></html>"
)


def say(html: str, person: dict[str, object], **rest: str) -> Said:
    numbers = {url: i + 1 for i, url in enumerate(links(html))}
    body = Body(rest.get("subject", "Hello"), rest.get("preview", ""), html, rest.get("plain", ""), "1 Quay", numbers, 9)
    return body.say(person, lambda n: f"https://t.example/c/{n}", "https://t.example/u", "https://t.example/o")


def test_personal_fields_links_footer_and_picture() -> None:
    said = say(HTML, {"first_name": "<Mira>"}, subject="For\n {{ first_name }}", preview="Read {{ first_name }}")
    assert said.subject == "For <Mira>"
    assert "Dear &lt;Mira&gt;" in said.html and "Read &lt;Mira&gt;" in said.html
    assert 'href="https://t.example/c/1"' in said.html and "href='https://t.example/c/2'" in said.html
    assert said.html.count("https://t.example/u") == 1 and "1 Quay" in said.html
    assert said.html.index("https://t.example/o") < said.html.index("</body>")
    assert 'href="https://t.example/c/9" style="display:none"' in said.html
    assert "Dear <Mira>" in said.plain and "https://t.example/u" in said.plain
    assert "friend" in say(HTML, {}).html, "a field nobody has falls back"
    assert say(HTML.replace("</body>", "{{ unsubscribe_url }}</body>"), {}).html.count("https://t.example/u") == 1


@pytest.mark.parametrize(
    "html", ["{{ 1/0 }}", "{{ ''.__class__.__mro__[1].__subclasses__() }}", "{% for %}", "{{ a.b.c }}"]
)
def test_bad_fields_are_a_sentence(html: str) -> None:
    with pytest.raises(FieldMistake, match="merge field cannot be"):
        say(html, {})


def test_unknown_fields_are_named() -> None:
    assert check_fields("{{ name }} {{ tovn }} {{ unsubscribe_url }}", {"name"}) == ["There is no field “tovn”."]
    assert "cannot be read" in check_fields("{{ ", set())[0]


LETTER = """<html><head><title>x</title><style>p{color:red}</style></head><body>
<div style="display:none">hidden</div><h1>Spring  season</h1>
<table role="presentation"><tr><td><p>Dear {{ first_name or "friend" }},<br>come &amp; hear.</p></td>
<td>{% if matches('score at least 1 and not (band is Strong)') %}<p>A second <a href="https://x.example/b">offer</a></p>
{% endif %}</td></tr><tr><td><a href="https://x.example/a?b=1&amp;c=2">Book early</a></td></tr></table>
<img src="https://x.example/p.png" alt="The hall at night"><ul><li>one</li><li>two</li></ul>
<p>Write to <a href="mailto:box@x.example?subject=hi">the box office</a>.</p></body></html>"""


def test_the_plain_text_reads_like_a_letter() -> None:
    assert plain_text(LETTER) == (
        'Spring season\n\nDear {{ first_name or "friend" }},\ncome & hear.\n\n'
        "{% if matches('score at least 1 and not (band is Strong)') %}\n\nA second offer\nhttps://x.example/b\n\n{% endif %}\n\n"
        "Book early:\nhttps://x.example/a?b=1&c=2\n\nThe hall at night\n\n- one\n- two\n\n"
        "Write to the box office.\nbox@x.example\n"
    )


URLS = [
    "https://x.example/strings?utm_source=mail&a=1",
    "https://x.example/?copy=1&copy=2&amp=3&lt;=4",
    "https://x.example/caf\u00e9/%C3%A9?q=a+b&r='x'&s=(y)",
    "https://x.example/seats_(upper)",
    "HTTPS://X.example/~a/;b=c,d?e[]=f&g=%26#top",
]


@pytest.mark.parametrize("pattern", ["utm_source", "a b=1", "utm={subject}", "x=<script>", "x=a#b"])
def test_what_is_no_pattern_of_parameters(pattern: str) -> None:
    assert parameters_problem(pattern) and not parameters_problem("utm_source=a&utm_campaign={campaign}-{purpose}")


def test_links_keep_every_character() -> None:
    """In the HTML and in the plain text, tracked in both; every other byte of the HTML stays as it was."""
    for quote in "\"'":
        page = "<p>" + " ".join(
            f"<A  Class=x\n HREF = {quote}{html.escape(u, quote=True)}{quote} title='a > b'>go</A>" for u in URLS
        )
        assert links(page) == URLS
        numbers = {u: n for n, u in enumerate(URLS, start=1)}
        calls = [f"{{{{ _link({n}) }}}}" for n in numbers.values()]
        want = page
        for u, call in zip(URLS, calls, strict=True):
            want = want.replace(html.escape(u, quote=True), call)
        assert tracked_html(page, numbers) == want
        said = say(page, {})
        assert [f"https://t.example/c/{n}" in said.plain for n in numbers.values()] == [True] * len(URLS)
    plain = f"See {URLS[0]}, or ({URLS[3]}). Last: {URLS[4]}!"
    assert links("", plain) == [URLS[0], URLS[3], URLS[4]]
    assert tracked_plain(plain, {URLS[0]: 1}) == plain.replace(URLS[0], "{{ _link(1) }}")
    assert links(
        "<a href=https://x.example/a>x</a><!-- <a href='https://c.example/'> --><script>'<a href=\"https://s.example\">'"
    ) == ["https://x.example/a"]
    assert tracked_html("<a href=https://x.example/a>x", {"https://x.example/a": 7}) == '<a href="{{ _link(7) }}">x'


@given(
    st.lists(
        st.sampled_from(
            [
                "<",
                ">",
                '"',
                "'",
                "a",
                " href=",
                "https://x.example/?a=1&b",
                "<!--",
                "-->",
                "{{ x }}",
                "{%",
                "/",
                "<style>",
                "</style>",
                "&amp;",
            ]
        )
    )
)
def test_scanning_changes_nothing_that_is_no_link(pieces: list[str]) -> None:
    text = "".join(pieces)
    assert tracked_html(text, {}) == text
    for tag in tags(text):
        assert (
            0 <= tag.start < tag.end <= tag.raw_end <= len(text) and text[tag.start] == "<" and text[tag.end - 1] == ">"
        )


@pytest.mark.parametrize(
    "piece", ["<a ", "<a href='", "{{", "<!--", "<", "&amp", "https://", "<a b=", "{% if ", "<style>", "[[", "<a href=x "]
)
def test_hostile_text_costs_what_its_length_costs(piece: str) -> None:
    text = piece * 40_000
    assert tracked_html(text, {"x": 1}) and links(text, text) is not None and plain_text(f"<p>{text}") is not None


def test_style_sheets_arrive_and_parts_stay_in_their_places() -> None:
    page = (
        "<html><head><style>.half{color:#123456} @media (max-width:520px){.half{display:block!important}}"
        "@media (prefers-color-scheme:dark){body{background:#000}}</style></head><body><table>"
        "{% if matches('score at least 1 and not (band is \"Strong\")') %}<tr><td class=\"half\" {% if a < b %}id='x'{% endif %}>"
        "{{ first_name or 'you & me' }}</td></tr>{% endif %}</table></body></html>"
    )
    body = Body("S", "", page, "", "", {})
    person = {"first_name": "Mira", "a": 1, "b": 2}
    said = body.say(person, str, "https://t.example/u", held=['score at least 1 and not (band is "Strong")'])
    assert "@media (max-width:520px)" in said.html and "prefers-color-scheme" in said.html
    assert (
        "<td" in said.html and 'style="color:#123456' in said.html.replace("color: #", "color:#") and "Mira" in said.html
    )
    assert said.html.index("<table") < said.html.index("Mira") < said.html.index("</table>"), "the part is in the table"
    assert "Mira" not in body.say(person, str, "https://t.example/u").html, "and shown on its condition"


def test_preview_text_is_padded_and_means_what_it_says() -> None:
    said = say("<html><body class='x > y'><p>Body words</p></body></html>", {"name": "<b>"}, preview="A < B & {{ name }}")
    place = said.html.index("A &lt; B &amp; &lt;b&gt;")
    assert said.html.index("<body class='x > y'>") < place < said.html.index("Body words")
    between = html.unescape(re.sub(r"<[^>]*>", "", said.html[place : said.html.index("Body words")]))
    assert len(between) > 150 and not between.removeprefix("A < B & <b>").strip("\u034f\u200c\u00a0 ")
    counted = [c.finding for c in lint.of_html(said.html) if c.check == "Preview text"]
    assert counted == ["It has 11 characters; 40 to 100 work best."], "the padding is not counted"


@pytest.mark.parametrize(
    "text", ["plain", "ünïcode — and long " + "x" * 300, "line\r\n\r\n\r\n", " trailing  \t\nspaces \n"]
)
def test_a_signature_verifies_through_another_library(text: str) -> None:
    key = new_key()
    message = assemble(
        Said("Subjéct " + "long " * 30, f"<p>{text}</p>", text),
        Envelope(
            "Késtrel, Quay",
            "a@x.example",
            "b@y.example",
            "<1@x.example>",
            1_773_308_520,
            "News <n.x.example>",
            "https://t.example/u/abc",
            "c1:x",
            "box@x.example",
            "u1-0123456789ab@bounce.x.example",
        ),
    )
    signed = Signer("x.example", "m1", key.private).header(message, 1_773_308_520) + message

    def txt(name: bytes, timeout: int = 5) -> bytes:
        assert name == b"m1._domainkey.x.example."
        return record_text(key.public).encode()

    assert dkim.verify(signed, dnsfunc=txt)
    assert not dkim.verify(signed.replace(b"<1@x.example>", b"<2@x.example>"), dnsfunc=txt)
    read_back = email.message_from_bytes(signed, policy=email.policy.default)
    by_mail = "<mailto:u1-0123456789ab@bounce.x.example?subject=unsubscribe>"
    assert " ".join(read_back["List-Unsubscribe"].split()) == f"<https://t.example/u/abc>, {by_mail}"
    assert read_back["Reply-To"] == "box@x.example"
    assert read_back["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    assert {"list-unsubscribe", "list-unsubscribe-post", "reply-to"} <= set(
        read_back["DKIM-Signature"].lower().replace(";", ":").replace(" ", "").replace("h=", ":").split(":")
    )
    assert max(map(len, signed.split(b"\r\n"))) <= 998


def test_long_addresses_in_headers_stand_word_for_word() -> None:
    """A library that folds headers would write them as encoded words, and nobody could unsubscribe."""
    url = "https://mail.a-rather-long-name.kestrelquay.example/u/" + "x" * 90
    e = Envelope(
        "Quay", "a@q.example", "b@x.example", "<" + "1" * 90 + "@q.example>", 0, "Kürze <p.q.example>", url, "c:1"
    )
    raw = assemble(Said("S", "<p>x</p>", "x"), e)
    assert f"List-Unsubscribe:\r\n <{url}>\r\n".encode() in raw and b"=?utf-8?q?=3Chttp" not in raw
    read_back = email.message_from_bytes(raw, policy=email.policy.default)
    assert read_back["List-Unsubscribe"].strip() == f"<{url}>" and "Kürze" in read_back["List-Id"]
    assert read_back["Message-ID"].strip() == e.message_id


@given(
    st.text(st.characters(codec="utf-8", exclude_characters="\r\x85\x0b\x0c\x1c\x1d\x1e\u2028\u2029"), max_size=300),
    st.text(st.characters(codec="utf-8", categories=("L", "N", "P", "Zs")), min_size=1, max_size=120),
)
def test_what_is_put_together_reads_back(text: str, subject: str) -> None:
    """Any text, any subject: the library that did not write the parts reads them as they were."""
    subject = " ".join(subject.split()) or "x"
    raw = assemble(
        Said(subject, f"<p>{text}</p>", text), Envelope("Quay", "a@q.example", "b@x.example", "<1@q.example>", 0)
    )
    assert all(len(line) <= 78 and b"\r" not in line and b"\n" not in line for line in raw.split(b"\r\n"))
    back = email.message_from_bytes(raw, policy=email.policy.default)
    plain, html = back.get_body(("plain",)), back.get_body(("html",))
    assert plain is not None and html is not None
    assert plain.get_content().replace("\r\n", "\n").rstrip("\n") == text.rstrip("\n")
    assert html.get_content().replace("\r\n", "\n").rstrip("\n") == f"<p>{text}</p>"
    assert [p.get_content_type() for p in back.iter_parts()] == ["text/plain", "text/html"]
