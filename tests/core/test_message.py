"""What a message says, how it is signed, and what comes back as a report."""

from __future__ import annotations

import email
import email.policy

import dkim
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from openmeadow.core.authentication.dkim import Signer, new_key, record_text
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Body, FieldMistake, Said, check_fields, links, twin

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
    with pytest.raises(FieldMistake, match="personal field cannot be"):
        say(html, {})


def test_unknown_fields_are_named() -> None:
    assert check_fields("{{ name }} {{ tovn }} {{ unsubscribe_url }}", {"name"}) == ["Nobody has a field “tovn”."]
    assert "cannot be read" in check_fields("{{ ", set())[0]


def test_the_twin_writes_links_out() -> None:
    assert "[one](https://x.example/a?b=1&c=2)" in twin(HTML)


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
        ),
    )
    signed = Signer("x.example", "m1", key.private).header(message, 1_773_308_520) + message

    def txt(name: bytes, timeout: int = 5) -> bytes:
        assert name == b"m1._domainkey.x.example."
        return record_text(key.public).encode()

    assert dkim.verify(signed, dnsfunc=txt)
    assert not dkim.verify(signed.replace(b"<1@x.example>", b"<2@x.example>"), dnsfunc=txt)
    read_back = email.message_from_bytes(signed, policy=email.policy.default)
    assert read_back["List-Unsubscribe"] == "<https://t.example/u/abc>"
    assert read_back["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    assert {"list-unsubscribe", "list-unsubscribe-post"} <= set(
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


@settings(max_examples=150, deadline=None)
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
