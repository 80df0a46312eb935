"""SPF: records read in full before anything is used, every mechanism, macros, limits, explanations, look-ups drawn."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.authentication import spf
from openmeadow.core.authentication.spf_terms import Malformed, expand, read, shortened, valid_name
from tests.core.recorded import Answers, drive, zone

D = "q.example"
FOUR, SIX = "192.0.2.25", "2001:db8::19"
HOSTS = zone("""
q.example A 192.0.2.25
q.example AAAA 2001:db8::19
h.example A 192.0.2.9
h.example AAAA
gone.example A
gone.example AAAA
slow.example A ?
q.example MX m.example
m.example A 192.0.2.25
m.example AAAA 2001:db8::19
void.example MX
foo:bar/baz.example A 192.0.2.25
yes.example TXT v=spf1 +all
no.example TXT v=spf1 -all
soft.example TXT v=spf1 ~all
nothing.example TXT other words
wrong.example TXT v=spf1 ip4:192.0.2.25 moo
slow.example TXT ?
192.0.2.25 PTR mail.q.example
192.0.2.25 PTR liar.example
mail.q.example A 192.0.2.25
liar.example A 198.51.100.1
2001:db8::19 PTR
mail.q.example.why TXT ignored
""")


def judge(record: str, ip: str = FOUR, more: Answers | None = None, **rest: str) -> spf.SpfResult:
    return drive(spf.check(ip, D, **rest), {**HOSTS, (D, "TXT"): [record], **(more or {})})  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("record", "result", "lookups"),
    [
        ("v=spf1", "neutral", 0),
        ("V=sPf1 ~ALL", "softfail", 0),
        ("v=spf1  -all ", "fail", 0),
        ("v=spf10 -all", "none", 0),
        ("words", "none", 0),
        ("v=spf1 ip4:192.0.2.0/24 -all", "pass", 0),
        ("v=spf1 ip4:0.0.0.0/0 -all", "pass", 0),
        ("v=spf1 ip6:::/0 -all", "fail", 0),
        ("v=spf1 ?all", "neutral", 0),
        ("v=spf1 all -all", "pass", 0),
        # a mistake anywhere, before anything is used
        ("v=spf1 ip4:192.0.2.25 moo", "permerror", 0),
        ("v=spf1 ip4:192.0.2.25 -all. ", "permerror", 0),
        ("v=spf1 all:q.example", "permerror", 0),
        ("v=spf1 -all/8", "permerror", 0),
        ("v=spf1 ip4", "permerror", 0),
        ("v=spf1 ip4:192.0.2", "permerror", 0),
        ("v=spf1 ip4:192.0.2.25/33", "permerror", 0),
        ("v=spf1 ip4:192.0.2.25/032", "permerror", 0),
        ("v=spf1 ip4:192.0.2.25:25", "permerror", 0),
        ("v=spf1 ip4:192.0.2.025", "permerror", 0),
        ("v=spf1 ip6:2001::db8::1", "permerror", 0),
        ("v=spf1 ip6:::1/129", "permerror", 0),
        ("v=spf1 a/33", "permerror", 0),
        ("v=spf1 a//129", "permerror", 0),
        ("v=spf1 a:", "permerror", 0),
        ("v=spf1 a:museum", "permerror", 0),
        ("v=spf1 a:abc.123", "permerror", 0),
        ("v=spf1 a:q.example:8080", "permerror", 0),
        ("v=spf1 a:-foo.-bar", "permerror", 0),
        ("v=spf1 a:q\x07.example", "permerror", 0),
        ("v=spf1 a:q.ex\ufffdmple", "permerror", 0),
        ("v=spf1 ptr/0", "permerror", 0),
        ("v=spf1 exists", "permerror", 0),
        ("v=spf1 exists:q.example/8", "permerror", 0),
        ("v=spf1 include", "permerror", 0),
        ("v=spf1 include:yes.example/24", "permerror", 0),
        ("v=spf1 redirect:yes.example", "permerror", 0),
        ("v=spf1 redirect=", "permerror", 0),
        ("v=spf1 -redirect=yes.example", "permerror", 0),
        ("v=spf1 redirect=yes.example redirect=no.example", "permerror", 0),
        ("v=spf1 exp=w.example exp=w.example -all", "permerror", 0),
        ("v=spf1 a:%{x}.example", "permerror", 0),
        ("v=spf1 a:%{c}.example", "permerror", 0),
        ("v=spf1 a:%{d0}.example", "permerror", 0),
        ("v=spf1 a:%(d).example", "permerror", 0),
        ("v=spf1 moo.cow-far_out=man:dog/cat ip4:192.0.2.25", "pass", 0),
        ("v=spf1 moo.cow/far_out=man ip4:192.0.2.25", "permerror", 0),
        ("v=spf1 foo=%abc ip4:192.0.2.25", "permerror", 0),
        ("v=spf1 default=pass", "neutral", 0),
        # mechanisms that ask
        ("v=spf1 a -all", "pass", 1),
        ("v=spf1 a:h.example -all", "fail", 1),
        ("v=spf1 a:h.example/24 -all", "pass", 1),
        ("v=spf1 a:foo:bar/baz.example -all", "pass", 1),
        ("v=spf1 a:gone.example ?all", "neutral", 1),
        ("v=spf1 a:slow.example -all", "temperror", 1),
        ("v=spf1 a:foo..example -all", "fail", 1),
        ("v=spf1 mx -all", "pass", 1),
        ("v=spf1 mx:void.example ?all", "neutral", 1),
        ("v=spf1 ptr -all", "pass", 1),
        ("v=spf1 ptr:liar.example -all", "fail", 1),
        ("v=spf1 exists:q.example -all", "pass", 1),
        ("v=spf1 include:yes.example -all", "pass", 1),
        ("v=spf1 include:no.example ~all", "softfail", 1),
        ("v=spf1 include:soft.example ?all", "neutral", 1),
        ("v=spf1 include:nothing.example -all", "permerror", 1),
        ("v=spf1 include:wrong.example -all", "permerror", 1),
        ("v=spf1 include:slow.example -all", "temperror", 1),
        ("v=spf1 redirect=no.example ip4:192.0.2.1", "fail", 1),
        ("v=spf1 redirect=yes.example -all", "fail", 0),
        ("v=spf1 redirect=nothing.example", "permerror", 1),
        # limits
        ("v=spf1 include:q.example -all", "permerror", 11),
        ("v=spf1 redirect=q.example", "permerror", 11),
        ("v=spf1" + " a:h.example" * 10 + " -all", "fail", 10),
        ("v=spf1" + " a:h.example" * 11 + " -all", "permerror", 11),
        ("v=spf1 a:gone.example a:gone.example -all", "fail", 2),
        ("v=spf1 a:gone.example a:gone.example exists:gone.example -all", "permerror", 3),
        ("v=spf1 ip4:192.0.2.25" + " a:h.example" * 11 + " -all", "pass", 0),
    ],
)
def test_records(record: str, result: str, lookups: int) -> None:
    found = judge(record)
    assert (found.result, found.lookups) == (result, lookups), found.explanation
    assert found.explanation.endswith(".")


@pytest.mark.parametrize(
    ("record", "ip", "result"),
    [
        ("v=spf1 a -all", SIX, "pass"),
        ("v=spf1 a:h.example//0 -all", SIX, "fail"),
        ("v=spf1 a//33 -all", "2001:db8:7fff::1", "pass"),
        ("v=spf1 a/0 -all", SIX, "pass"),
        ("v=spf1 a:h.example/0 -all", SIX, "fail"),
        ("v=spf1 mx//64 -all", "2001:db8::77", "pass"),
        ("v=spf1 ip6:2001:db8::/32 -all", SIX, "pass"),
        ("v=spf1 ip4:192.0.2.25 -all", "::ffff:192.0.2.25", "pass"),
        ("v=spf1 ip6:::/0 -all", "::ffff:192.0.2.25", "fail"),
        ("v=spf1 exists:q.example -all", SIX, "pass"),
        ("v=spf1 ptr -all", SIX, "fail"),
    ],
)
def test_both_families(record: str, ip: str, result: str) -> None:
    assert judge(record, ip).result == result


@pytest.mark.parametrize(
    ("answers", "result"),
    [
        (zone("q.example TXT ?"), "temperror"),
        (zone("q.example TXT"), "none"),
        (zone("q.example TXT v=spf1 -all\nq.example TXT v=spf1 +all"), "permerror"),
        (zone("q.example TXT v=spf1 -all\nq.example TXT site-verification=1"), "fail"),
        (
            zone("q.example TXT v=spf1 mx -all\n" + "\n".join(f"q.example MX m{i}.example" for i in range(11))),
            "permerror",
        ),
    ],
)
def test_answers(answers: Answers, result: str) -> None:
    assert drive(spf.check(FOUR, D), answers).result == result


@pytest.mark.parametrize(
    ("mail_from", "helo", "result"),
    [
        ("", "q.example", "fail"),
        ("<>", "mail", "none"),
        ("a@q.example", "mail", "fail"),
        ("@q.example", "mail", "fail"),
        ("a@[192.0.2.25]", "mail", "none"),
        ("", "[192.0.2.25]", "none"),
        ("a@" + "x" * 64 + ".example", "mail", "none"),
        ("a@q...example", "mail", "none"),
    ],
)
def test_envelopes(mail_from: str, helo: str, result: str) -> None:
    found = drive(
        spf.check_mail(FOUR, mail_from, helo),
        zone(
            "q.example TXT v=spf1 -all exp=%{l}.why.example\n"
            "postmaster.why.example TXT Ask %{s} at %{c}, 100%%\n"
            "a.why.example TXT"
        ),
    )
    assert found.result == result
    if "a@" not in mail_from and result == "fail":
        assert found.exp == "Ask postmaster@q.example at 192.0.2.25, 100%"


@pytest.mark.parametrize(
    ("text", "exp"),
    [
        (
            "why.example TXT See http://why.example/%{s} from %{I}",
            "See http://why.example/strong-bad@q.example from 192.0.2.25",
        ),
        ("why.example TXT", ""),
        ("why.example TXT ?", ""),
        ("why.example TXT one\nwhy.example TXT two", ""),
        ("why.example TXT Broken %{z}", ""),
        ("why.example TXT Not \ufffd ascii", ""),
    ],
)
def test_explanations(text: str, exp: str) -> None:
    found = judge("v=spf1 -all exp=why.example", more=zone(text), sender="strong-bad@q.example")
    assert (found.result, found.exp) == ("fail", exp)


def test_an_include_explains_nothing_and_a_redirect_its_own() -> None:
    more = zone("e.example TXT v=spf1 -all exp=why.example\nwhy.example TXT Theirs")
    assert judge("v=spf1 include:e.example -all", more=more).exp == ""
    assert judge("v=spf1 redirect=e.example exp=gone.example", more=more).exp == "Theirs"


# the examples of RFC 7208, 7.4
EXAMPLES = """
%{s} strong-bad@email.example.com
%{o} email.example.com
%{d} email.example.com
%{d4} email.example.com
%{d3} email.example.com
%{d2} example.com
%{d1} com
%{dr} com.example.email
%{d2r} example.email
%{l} strong-bad
%{l-} strong.bad
%{lr} strong-bad
%{lr-} bad.strong
%{l1r-} strong
%{ir}.%{v}._spf.%{d2} 3.2.0.192.in-addr._spf.example.com
%{lr-}.lp._spf.%{d2} bad.strong.lp._spf.example.com
%{lr-}.lp.%{ir}.%{v}._spf.%{d2} bad.strong.lp.3.2.0.192.in-addr._spf.example.com
%{d2}.trusted-domains.example.net example.com.trusted-domains.example.net
%{S} strong-bad%40email.example.com
a%%b%_c%-d a%b c%20d
"""


@pytest.mark.parametrize("line", EXAMPLES.strip().splitlines())
def test_macros(line: str) -> None:
    text, expected = line.split(" ", 1)
    values = {"s": "strong-bad@email.example.com", "l": "strong-bad", "i": "192.0.2.3", "v": "in-addr"}
    values |= dict.fromkeys("od", "email.example.com")
    assert expand(text, values.__getitem__) == expected


def test_the_name_behind_the_address() -> None:
    more = zone("mail.q.example.p.example A 192.0.2.1\nunknown.p.example A")
    assert judge("v=spf1 exists:%{p}.p.example -all", more=more).result == "pass"
    assert judge("v=spf1 exists:%{p}.p.example -all", SIX, more=more).result == "fail"
    long = judge(
        "v=spf1 exists:%{i}.s.example -all", SIX, zone(".".join("20010db8" + "0" * 22 + "19") + ".s.example A 127.0.0.2")
    )
    assert long.result == "pass"


@given(st.text("abc.", min_size=1, max_size=400))
def test_long_names_lose_labels_from_the_left(name: str) -> None:
    out = shortened(name)
    assert name.removesuffix(".").endswith(out) and (len(out) <= 253 or "." not in out)
    assert not valid_name(out) or len(out) <= 253


@given(st.text(st.sampled_from("v=spf1 +-~?alincudemxptr:/%{}d0.e\t\x00é"), max_size=40))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        record = read("v=spf1 " + text)
    except Malformed as e:
        assert str(e)
    else:
        assert all(t.result in ("pass", "fail", "softfail", "neutral") for t in record.terms)


def test_look_ups_are_drawn_one_by_one() -> None:
    found = judge("v=spf1 include:soft.example a:h.example mx -all")
    assert [(s.term, s.count, s.note) for s in found.steps] == [
        ("include:soft.example", 1, "does not match"),
        ("a:h.example", 2, "does not match"),
        ("mx", 3, "matches"),
    ]
    costs = drive(
        spf.cost(D),
        zone(
            "q.example TXT v=spf1 a include:e.example ip4:192.0.2.1 redirect=f.example\n"
            "e.example TXT v=spf1 mx ptr include:e.example ~all\nf.example TXT"
        ),
    )
    assert [(c.term, c.lookups) for c in costs] == [("a", 1), ("include:e.example", 4), ("redirect=f.example", 1)]
