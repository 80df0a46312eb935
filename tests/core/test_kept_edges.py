"""What core says at the edges: values, addresses, records, mail and rules that are just right or just wrong."""

from __future__ import annotations

from openmeadow.core import fields as fields_of_people
from openmeadow.core.addresses import providers, syntax
from openmeadow.core.authentication import dmarc
from openmeadow.core.imports.dates import STYLES
from openmeadow.core.imports.subscribers import match_columns
from openmeadow.core.message import links, lint, wording
from openmeadow.core.message.plain_text import plain_text
from openmeadow.core.reports import bounces, mail, provider_statistics
from openmeadow.core.rules.parser import parse
from tests.core.recorded import drive
from tests.core.test_kept import Lines, in_lines, kept, told, world


def edges() -> Lines:
    taken = {"email", "joined_at"}
    for name in ("", "  ", "Row", " Row  two ", "a:b", 'a"b', "Joined at", "EMAIL", "x" * 64, "x" * 65, "x" * 201):
        yield name[:9], told(lambda name=name: fields_of_people.checked_name(name, taken))
    for value in (
        "4",
        "+4.5",
        " 1,5 ",
        "1.2.3",
        "",
        "2026-03-12",
        "12.3.2026",
        "3/12/2026",
        "2026-02-30",
        "x",
        "1e3",
        "-",
    ):
        yield (
            value,
            [
                told(lambda v=value, k=k, s=s: fields_of_people.kept(v, k, s))
                for k in fields_of_people.FieldType
                for s in ("", *STYLES, "unix seconds")
            ],
        )
    for address in (
        "a@übersee.example",
        "ü@x.example",
        "a@-x.example",
        "a b@x.example",
        "a<b@x.example",
        '"a b"@x.example',
        "a@x.example",
        "\udc80@x.example",
    ):
        yield told(
            lambda a=address: (syntax.wire_form(a), syntax.address_key(a), syntax.syntax_problem(a), syntax.is_plain(a))
        )
    yield (
        providers.standing({"b": 900, "a": 900, "c": 3_000, "": 9_999, "d": 1, "e": 40}, 5_000),
        providers.standing({"a": 1}, 0),
    )
    head = "Date,provider,domain,complaint_rate,standing"
    for share in ("0", "1", "1.5", "100%", "0,3 %", "-1", "x", "", "0.003", "150%"):
        rows = f"{head}\n2026-03-01,postern,A.example,{share},high\n2026-3-1,Postern,,{share},\n"
        rows += f"2026-03-01,Other,,1%,\n2026-03-02,Postern,,{share},\n"
        yield share, told(lambda rows=rows: provider_statistics.read(rows, ["Postern"]))
    for record in (
        "v=DMARC1; p=quarantine; pct=100",
        "v=DMARC1; p=quarantine; pct=99; sp=none",
        "v=DMARC1; p=none; pct=x; adkim=s; aspf=q",
        "v=DMARC1; p=reject; rua=mailto:a@r.example!10m,https://x; rf=afrf",
        "v=DMARC1; p=maybe; rua=mailto:a@b.example",
        "v=DMARC1; p",
        "v=DMARC1",
    ):
        policy = dmarc.read(record)
        yield (
            policy,
            policy and dmarc.next_step(policy, "n.q.example"),
            policy and dmarc.strangers(policy, "_dmarc.n.q.example"),
        )
        for lines in (
            f"_dmarc.n.q.example TXT {record}",
            f"_dmarc.q.example TXT {record}",
            "_dmarc.n.q.example TXT ?",
            "_dmarc.q.example TXT ?",
        ):
            yield drive(dmarc.discover("N.q.example. "), world(lines))
    for words, href in (
        ("a.example", "http://a.example/x"),
        ("b.example", "http://a.example"),
        ("www.b.example", "http://b.example"),
        ("a.b.example/x y", "http://c.example"),
        ("Click here!", "https://a.example"),
        ("..read more.", "https://a.example"),
        ("a..b", "https://a.example"),
        ("x.toolong" * 9, "https://a.example"),
    ):
        yield words[:20], lint.of_links([(href, words)]), wording.of_links([(href, words)])
    for n in (0, 1, 20, 39, 40, 90, 120, 160, 200, 400):
        yield (
            n,
            lint.of_html(
                f"<div style='display:none'>{'p' * n}</div><p>Hello you, this is our letter about the season.</p>"
            ),
        )
        yield n, lint.of_subject("s" * n)
    for head in (
        "Precedence: auto_reply",
        "Precedence: BULK",
        "Auto-Submitted: auto-generated",
        "X-Autoreply: yes",
        "Auto-Submitted: no",
        "Subject: Out of office",
        "Subject: Re: hello",
    ):
        raw = f"From: a@x.example\r\nTo: b@y.example\r\n{head}\r\n\r\nbody\r\n".encode()
        yield (
            head,
            told(lambda raw=raw: mail.read(raw)),
            lint.in_order(lint.of_message(raw)),
            lint.in_order(lint.of_message(raw.replace(b"\r\n", b"\n"))),
        )
    for code, text in (
        ("550", "550 - no"),
        (None, "smtp; 550 5.1.1 - gone"),
        ("5.2.2", "full"),
        ("", ""),
        ("  421 ", "- later -"),
        ("554", "x" * 400),
    ):
        yield bounces.plain_reason(code, text), bounces.bounce_class(code, text)
    for html in (
        "<table><tr><td>a</td><td></td><td>b</td></tr><tr><th>c</th></tr></table>",
        "<ol start=3><li>x<ul><li>y</li></ul></li><li>z</li></ol>",
        "<p>a<br>b</p><hr><h2>T</h2><blockquote>q</blockquote><pre> k  l</pre>",
        "<a href='https://a.example'>https://a.example</a> <a href='#x'>y</a><a>z</a>",
        "<img alt='A hall'><img><p> </p>x&nbsp;y",
    ):
        yield plain_text(html)
    for url in ("https://a.example", "https://a.example/?x=1#y", "https://a.example/#z"):
        yield (
            links.with_part(url, "m=1&n=2"),
            links.tracked_plain(f"See {url}. Or ({url})!", {url: 4}),
            links.links(f"<a href='{url}'>x</a>", f"{url}, {url};"),
        )
    for rule in (
        "opened",
        "opened at least x",
        "band is Good",
        "in list Paper",
        "score at least 4 and",
        "(rejoined",
        "rejoined)",
        "rejoined or or rejoined",
        "joined more than 3 fortnights ago",
        "opend at least 1",
        "not",
        'in list "a',
        "rejoined and rejoined or rejoined",
    ):
        yield told(lambda rule=rule: parse(rule))
    yield [
        told(lambda h=h: match_columns(h, {}))
        for h in ([f"c{i}" for i in range(12)], ["email", "email"], ["email", "consent:"], ["email", "consent:a:fax"])
    ]


def test_the_edges_are_as_they_were_read() -> None:
    kept("edges", in_lines(edges()))
