"""Text from outside, made to be slow: every pattern and every reader of it stays linear, every template within bounds."""

from __future__ import annotations

import contextlib
import importlib
import multiprocessing
import os
import pkgutil
import re
import resource
from collections.abc import Callable, Iterator
from typing import Any

import pytest

import openmeadow
from openmeadow.core.authentication import dkim, dmarc
from openmeadow.core.errors import MeadowError
from openmeadow.core.message import blocks, client_support, links, lint, personalisation, plain_text, styles, templates
from openmeadow.core.reports import mail
from openmeadow.core.rules import parser
from openmeadow.services.campaigns import ab_test, preflight
from openmeadow.store.campaigns.records import Texts

LONG = int(os.environ.get("MEADOW_LONG", "40000"))
# each is repeated up to LONG characters; with an ending that makes a pattern try again
PIECES = (
    *("a", "A", "0", " ", "\n", "\t", ".", "-", "@", "<", ">", '"', "'", "{", "%", "(", ")", "=", ";", ":", "/", "_"),
    *(
        "{{",
        "{%",
        "{{ a",
        "{{ a }}",
        "a@",
        "@a",
        "a.",
        "a-",
        "a. ",
        "<a ",
        "<a href=",
        "<!--",
        "<style ",
        "</",
        "<a>",
        "&#",
    ),
    *(
        "[[",
        "%%",
        "%%A",
        "<%",
        "http://",
        "<http://",
        "https://a",
        "a=",
        "a=b;",
        "mailto:a@",
        " or ",
        " or",
        "\r\n",
        "\r\n ",
        '""',
    ),
    *(
        "display:",
        "background:",
        "<td ",
        "<link ",
        "5.1",
        "5.1.",
        "A1",
        "A'",
        "b1-",
        "d1.c",
        "1 ",
        "x:y\r\n",
        "=?",
        "\u00e9",
        "\u200c",
    ),
)
ENDING = "!"
SECONDS = (
    60 if LONG < 50_000 else 200
)  # of processor time for all; one pattern that is not linear takes far longer by itself


def patterns() -> Iterator[tuple[str, re.Pattern[Any]]]:
    """Every pattern that a module of the product keeps."""
    for found in pkgutil.walk_packages(openmeadow.__path__, "openmeadow."):
        if found.name.endswith("__main__") or ".mail_world" in found.name:
            continue
        for name, value in vars(importlib.import_module(found.name)).items():
            if isinstance(value, re.Pattern):
                yield f"{found.name}.{name}", value
    for pattern, row in client_support._table():
        yield f"support: {row.what}", pattern


def _with_numbers(text: str) -> object:
    return links.tracked_plain(text, {"https://a": 1})


READERS: tuple[Callable[[str], object], ...] = (
    lambda t: personalisation.check_fields(t, {"name"}),
    personalisation.plain_text_of,
    personalisation.links,
    personalisation.rules_in,
    personalisation.undeclared,
    personalisation.without_fallbacks,
    blocks.cleaned,
    lint.of_html,
    lint.of_subject,
    styles.inlined,
    client_support.dropped,
    plain_text.plain_text,
    preflight.without_fields,
    _with_numbers,
    dmarc.read,
    parser.parse,
    lambda t: dmarc.read("v=DMARC1; p=none; rua=" + t),
    lambda t: styles.inlined("<style>a{b:c}</style>" + t),
    lambda t: lint.of_links([("https://a.example/x", t)]),
    lambda t: lint.of_message(t.encode("utf-8", "surrogateescape")),
    lambda t: lint.of_message(b"From: a@b.example\r\n\r\n" + t.encode("utf-8", "surrogateescape")),
    lambda t: mail.read(b"Content-Type: multipart/report\r\n\r\n" + t.encode("utf-8", "surrogateescape")),
    dkim._fields,
    lambda t: ab_test.differs(Texts(t, t, t, t, None), Texts(*[t + "><>"] * 4, None)),
)


def hostile() -> Iterator[str]:
    for piece in PIECES:
        yield piece * (LONG // len(piece)) + ENDING


def _feed(which: str, told: Any) -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    if which == "patterns":
        for name, pattern in patterns():
            told.value = name.encode()[:200]
            for text in hostile():
                subject = text.encode() if isinstance(pattern.pattern, bytes) else text
                pattern.search(subject)
                pattern.fullmatch(subject)
        return
    for n, reader in enumerate(READERS):
        for piece in PIECES:
            told.value = f"reader {n} ({getattr(reader, '__name__', '')}) with {piece!r}".encode()[:200]
            with contextlib.suppress(MeadowError, ValueError):  # refused with a sentence
                reader(piece * (LONG // len(piece)) + ENDING)


@pytest.mark.parametrize("which", ["patterns", "readers"])
def test_whatever_is_fed_ends(which: str) -> None:
    """In a process of its own with a bound on its processor time; the last one fed is named where it does not end."""
    context = multiprocessing.get_context("fork")
    told = context.Array("c", 200)
    process = context.Process(target=_feed, args=(which, told))
    process.start()
    process.join()
    assert process.exitcode == 0, told.value.decode("utf-8", "replace")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{% for i in range(100000) %}{% for j in range(100000) %}x{% endfor %}{% endfor %}", "Loops cannot be used"),
        ("{{ 'a' * 10**8 }}", "Nothing can be repeated"),
        ("{% set x = 'a' %}{{ x }}", "Nothing can be set"),
        ("{{ '%100000000d' % 1 }}", "“%” cannot be used"),
        ("{{ name|center(100000000) }}", "The filter “center” cannot be used"),
        ("{{ name|replace('', 'aaaaaaaa') }}", "The filter “replace” cannot be used"),
        ("{{ ''.format(name) }}", "Only merge fields"),
        ("{{ range(10) }}", "Only merge fields"),
        ("{{ name.__class__ }}", "cannot be used"),
        ("{% macro a() %}{% endmacro %}", "Macros cannot be used"),
        ("{% include 'x' %}", "“include” cannot be used"),
        ("{{ " + "(" * 5_000 + "name" + ")" * 5_000 + " }}", "nested too deep"),
        ("{{ " + "not " * 5_000 + "name }}", "nested too deep"),
        ("{{ name }}" * 20_000, "more than 20,000 parts"),
        ("x" * 1_000_001, "the limit is 1,000,000"),
        ("{{ name", "cannot be read"),
    ],
)
def test_a_template_that_could_run_long_is_refused(text: str, said: str) -> None:
    found = personalisation.check_fields(text, {"name"})
    assert len(found) == 1 and said in found[0], found
    with pytest.raises(templates.FieldMistake, match=re.escape(said)):
        personalisation.Body("s", "", f"<p>{text}</p>", "", "", {})


def test_what_messages_use_goes_on() -> None:
    said = personalisation.Body(
        "{{ first_name or 'Guest' }}",
        "",
        "<p>{% if town|default('') == 'Saltmere' %}Near{% else %}Far{% endif %} {{ name.split(' ')[0]|upper }}"
        "{% if matches('band is Strong') and not seat is none %}, {{ 'row ' ~ seat }}{% endif %}</p>",
        "",
        "",
        {},
    ).say({"town": "Saltmere", "name": "Ada Quay", "seat": "4"}, str, "https://u.example", held=("band is Strong",))
    assert said.subject == "Guest" and "Near ADA, row 4" in said.html
