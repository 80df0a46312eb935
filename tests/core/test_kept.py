"""Every word of what is said, and every mark of what is written, as it was when somebody last read it.

Each case gives lines; they must be those of ``kept/NAME.txt``. After a change that is meant, run with MEADOW_KEEP=1 and
read the difference before it is committed.
"""

from __future__ import annotations

import json
import os
import random
import re
from collections.abc import Callable, Iterator
from dataclasses import fields, is_dataclass
from datetime import UTC
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from openmeadow.core.addresses import verdicts
from openmeadow.core.authentication import dkim_record, dmarc, hosts, records, spf
from openmeadow.core.delivery import guardrails, schedule, smtp_refusals, uplift
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.errors import MeadowError
from openmeadow.core.imports.event_log import places, read_many
from openmeadow.core.imports.report import Refusal, Report
from openmeadow.core.imports.subscribers import Reading, match_columns
from openmeadow.core.message import blocks, lint, wording
from openmeadow.core.message.headers import explained
from openmeadow.core.message.personalisation import Body, one_line, plain_text_of
from openmeadow.core.moments import HOUR, midnight
from openmeadow.core.reports import aggregate, incoming, mail
from openmeadow.core.reports.bounces import bounce_class, plain_reason
from openmeadow.core.rules.parser import parse
from openmeadow.core.sequences.definition import Definition, Step, lacks, read
from openmeadow.core.settings import SETTINGS, checked, parsed, shown
from tests.conftest import NOW
from tests.core import test_addresses, test_authentication, test_blocks, test_intake, test_reports, test_rules, test_spf
from tests.core.recorded import drive, zone

KEPT = Path(__file__).parent / "kept"
Lines = Iterator[object]


def kept(name: str, text: str) -> None:
    """Fails where a text is not the one of before; with MEADOW_KEEP=1 it becomes that."""
    file = KEPT / f"{name}.txt"
    if os.environ.get("MEADOW_KEEP"):
        file.write_text(text, encoding="utf-8")
    assert text == file.read_text(encoding="utf-8")


def steady(value: object) -> object:
    """The same in every run: sets in order, and what stands in dataclasses too."""
    if isinstance(value, set | frozenset):
        return sorted(map(str, value))
    if isinstance(value, tuple | list):
        return type(value)(*map(steady, value)) if hasattr(value, "_fields") else type(value)(map(steady, value))
    if isinstance(value, dict):
        return {k: steady(v) for k, v in value.items()}
    if is_dataclass(value) and not isinstance(value, type):
        return f"{type(value).__name__}{[(f.name, steady(getattr(value, f.name))) for f in fields(value)]}"
    return value


class Zone(dict[tuple[str, str], "list[str] | str"]):
    """Recorded answers; of what is not recorded there is none."""

    def __missing__(self, _: object) -> list[str]:
        return []


def world(text: str) -> Zone:
    return Zone(zone(text))


def cases(test: Callable[..., None]) -> list[Any]:
    """What a test of this folder is given, case by case."""
    given: list[Any] = test.pytestmark[0].args[1]  # type: ignore[attr-defined]
    return given


def in_lines(said: Lines) -> str:
    """A line for each thing said, without keys, which are others in every run."""
    text = "\n".join(repr(steady(line)) for line in said).replace("\ud800", "?") + "\n"
    text = re.sub(r"[A-Za-z0-9+/!]{60,}={0,2}", "KEY", text)
    return re.sub("“[!A-Za-z0-9+/]{12}”", "“KEY”", text)


def told(work: Callable[[], object]) -> object:
    """What comes of it, or the sentence that refuses it."""
    try:
        return work()
    except (MeadowError, ValueError) as e:
        return f"{type(e).__name__}: {e}"


def key_records() -> Lines:
    for text, *_ in cases(test_authentication.test_key_records):
        if "BITS" not in text and len(text) < 900 and "RSA" not in text:
            found = dkim_record.read(text)
            yield found.kind, found.problem, found.advice


def findings_of_records() -> Lines:
    facts = test_authentication.FACTS
    for lines, *_ in cases(test_authentication.test_selectors):
        yield drive(records.signing_key(facts, facts.keys[0]), zone(lines))
    for lines, *_ in cases(test_authentication.test_policies):
        yield drive(records.policy(facts), zone(lines))
    for text, *_ in cases(test_authentication.test_spf_of_the_return_path):
        finding, seen = drive(records.sender_policy(facts), zone(f"{test_authentication.RETURN} TXT {text}"))
        yield finding, seen.most, seen.costs
    yield drive(records.sender_policy(facts), zone(f"{test_authentication.RETURN} TXT ?"))
    yield records.no_key(facts)
    for p, messages, failing, _ in cases(test_authentication.test_what_a_stricter_policy_would_hit):
        policy = dmarc.read(f"v=DMARC1; p={p}; rua=mailto:a@b.example")
        assert policy is not None
        yield dmarc.risk(policy, messages, failing, 30)


def findings_of_hosts() -> Lines:
    ip, domain, six = "192.0.2.25", "n.q.example", "2001:db8::25"
    good = f"{ip} PTR m.q.example\nm.q.example A {ip}\n{six} PTR m.q.example\nm.q.example AAAA {six}\n"
    for lines in (
        good,
        "",
        f"{ip} PTR",
        f"{ip} PTR ?",
        f"{ip} PTR m.q.example\nm.q.example A 192.0.2.9",
        f"{domain} A {ip}",
    ):
        yield drive(hosts.reverse_dns(ip, domain), world(lines))
        yield drive(hosts.reverse_dns(six, domain), world(lines))
    at = "bounce.n.q.example"
    for lines in (
        "",
        f"{at} MX m.q.example\nm.q.example A {ip}",
        f"{at} MX .",
        f"{at} MX ?",
        f"{at} MX m.q.example",
        f"{at} A {ip}",
    ):
        for intake in ("", "m.q.example", "other.example"):
            yield drive(hosts.return_path(domain, at, intake), world(lines))
    for lines in ("", f"t.q.example A {ip}", "t.q.example CNAME u.r.example\nu.r.example A 192.0.2.1", "t.q.example A ?"):
        for host in ("t.q.example", "t.r.example", "", "127.0.0.1"):
            yield host, told(lambda host=host, lines=lines: drive(hosts.tracking_host(host, domain), world(lines)))
    listed = "25.2.0.192.bl.example A 127.0.0.2\n25.2.0.192.bl.example TXT seen here"
    tests = test_authentication.TESTS
    for lines in (
        tests,
        tests + listed,
        listed,
        "",
        tests + "25.2.0.192.bl.example A ?",
        tests + "25.2.0.192.bl.example A 127.255.255.254",
    ):
        yield drive(hosts.block_list(ip, "bl.example"), world(lines))
    for lines in ("", f"_mta-sts.{domain} TXT v=STSv1; id=1\n_smtp._tls.{domain} TXT v=TLSRPTv1; rua=mailto:a@b.example"):
        yield drive(hosts.noted(domain), world(lines))
    for lines in (
        "",
        f"_meadow.{domain} TXT meadow=tok",
        f"_meadow.{domain} TXT meadow=other",
        f"_meadow.{domain} TXT ?",
    ):
        yield drive(hosts.ownership(domain, "tok"), world(lines))
    yield [hosts.return_domain(d) for d in ("q.example", "bounce.q.example", "a.b.q.example")]


def sender_policies() -> Lines:
    for record, *_ in cases(test_spf.test_records):
        found = test_spf.judge(record)
        yield record[:60], found.result, found.explanation
        here = {**test_spf.HOSTS, ("q.example", "TXT"): [record]}
        yield told(lambda here=here: drive(spf.cost("q.example"), Zone(here)))
    for sent_by, helo, _ in cases(test_spf.test_envelopes):
        yield drive(spf.check_mail(test_spf.FOUR, sent_by, helo), world("q.example TXT v=spf1 -all")).explanation


def mistakes_and_trees() -> Lines:
    for text, *_ in cases(test_rules.test_mistakes_name_the_place):
        try:
            parse(text)
        except MeadowError as e:
            yield vars(e)
    for text, _ in cases(test_rules.test_rules_are_written_back_in_one_way):
        yield told(lambda text=text: json.dumps(parse(text).tree(), ensure_ascii=False))
        yield told(lambda text=text: [(type(r).__name__, r.place) for r in parse(text).parts_below()])


def checks_of_messages() -> Lines:
    for raw, *_ in cases(test_reports.test_pre_send_checks):
        yield lint.in_order(lint.of_message(raw, {"lanternmail.example"}))
    pages = (
        "<p style='display: none'>Hid</p><p style='max-height:0'>Low</p><p>Seen</p><img alt='A hall' src='https://p.example/1'>",
        "<a href='https://a.example'><img src='https://p.example/1' alt='Seats'></a><a href='javascript:x()'>No</a><a>Bare</a>",
        "<style>a{color:red}</style><title>T</title><form><input></form><iframe></iframe><table><tr><td>x</td></tr></table>",
        "<!-- c --><a href='#'>Top</a><a href=' HTTPS://A.example/x '>Up</a><img width=1 height=1 src='https://p.example/t'>",
        "<a href='http://a.example'>a.example</a><a href='http://b.example'>Two</a><a href='mailto:x@y.example'>Write</a>",
    )
    for page in pages:
        seen = lint.page_of(page)
        yield seen, lint.of_html(page), lint.of_links(seen.links)
    for subject in (
        "",
        "x",
        "Re: hello",
        "FW: hello",
        "WOW!!!",
        "FREE FREE FREE",
        "50% off today only!",
        "a" * 78,
        "Früh übt sich",
    ):
        yield lint.of_subject(subject)
    yield wording.of_text("BUY NOW!!! This is GUARANTEED and risk-free.\nAct now, dear friend. LAST CHANCE TO WIN CASH")
    yield wording.of_links(
        [("https://a.example", w) for w in ("here", "Click here", "Read more", "Seats for Saturday", "")]
    )


def letters_by_blocks() -> Lines:
    layout = {"logo": "https://pics.example/logo.png", "colour": "#112233", "footer": "<p>Quay 1</p>"}
    more = [
        {
            "kind": "text",
            "html": "<p>A <b>b</b> <a href='https://a.example'>c</a></p><ul><li>d</li></ul>",
            "align": "right",
        },
        {"kind": "image", "src": "https://p.example/x.png", "alt": 'A "b"', "width": 300, "align": "center"},
        {"kind": "image", "src": "", "alt": ""},
        {"kind": "space", "height": 24},
        {"kind": "rule"},
        {
            "kind": "links",
            "align": "center",
            "links": [{"words": "A", "href": "https://a.example"}, {"words": "B", "href": "b"}],
        },
        {
            "kind": "columns",
            "left": [{"kind": "image", "src": "https://p.example/l.png"}],
            "right": [{"kind": "button", "words": "Go", "href": "https://a.example"}],
        },
        {"kind": "button", "words": "", "href": ""},
        {"kind": "button", "words": "Right", "href": "{{ agree_1 }}", "align": "right", "rule": "rejoined"},
        {"kind": "html", "html": "<p>raw</p>"},
    ]
    for one in [*test_blocks.BLOCKS, *more]:
        yield told(lambda one=one: blocks.render([one], layout))
    yield told(lambda: blocks.render([{"kind": "text", "html": "x", "align": "middle"}], {}))
    for given, _ in cases(test_blocks.test_what_is_no_block):
        yield told(lambda given=given: blocks.render(given, {}))
    yield blocks.layout_of({}), blocks.layout_of(layout), told(lambda: blocks.layout_of({"colour": "red"}))
    page = blocks.render(test_blocks.BLOCKS, layout)
    yield plain_text_of(page)
    said = Body("S {{ n }}", "", page, "P {{ n }}", "Quay 1", {"https://a.example/seats": 7}).say(
        {"first_name": "Ann", "n": "1"}, "link {}".format, "https://u.example/"
    )
    yield said.subject, said.html, said.plain
    yield [one_line(t) for t in ("a\r\n b", "x\x00y\u2028z\ud800", "  ä\t ")]
    yield explained(b"Feedback-ID: a\r\n b\r\nList-Unsubscribe: <x>\r\nX-Unknown: 1\r\nDKIM-Signature: v=1\r\n\r\nx")


def returned_mail() -> Lines:
    mta, make, group = "Reporting-MTA: dns; mx.example\n\n", test_reports.report, test_reports.group
    bodies = (
        "<ada@x.example>: host mx.example said: 550 5.1.1 no such user",
        "ada@x.example\n  mailbox full 452 4.2.2",
        "Sorry",
    )
    for raw in (
        make(mta + group("a@x.example") + "\n" + group("b@x.example", "delayed", "4.4.1", "smtp; 451 later", "Original")),
        make(mta + group("rfc822;<c@x.example>", "relayed", "2.0.0"), test_reports.QUOTED),
        make(mta + group("d@x.example", "Failed", "5.7.1 (policy)", "x-unix; x")),
        make("Feedback-Type: abuse\nOriginal-Rcpt-To: <ada@x.example>\n", test_reports.QUOTED, kind="feedback-report"),
        make("Feedback-Type:  fraud \n", test_reports.QUOTED, kind="feedback-report"),
        make("Feedback-Type: not-spam\n", test_reports.QUOTED, kind="feedback-report"),
        *(test_reports.plain(b, Subject="Mail delivery failed: returning message to sender") for b in bodies),
        test_reports.plain("away", Auto_Submitted="auto-replied"),
        test_reports.plain("hello", Subject="Automatic reply: yes"),
    ):
        yield told(lambda raw=raw: mail.read(raw))
        yield told(lambda raw=raw: incoming.parse(raw))
    for text, _ in cases(test_reports.test_reports_that_are_refused):
        yield told(lambda text=text: aggregate.read(text))
    yield aggregate.read(test_reports.xml(test_reports.ONE))
    for code, words, _ in cases(test_reports.test_bounce_classes):
        yield code, words, bounce_class(code, words), plain_reason(code, words)
    for stage in smtp_refusals.Stage:
        for code, words in (
            ("550", "5.1.1 no"),
            ("451", "4.7.1 later"),
            ("530", "5.7.0 sign in"),
            ("554", "5.7.1 Relay access denied"),
            ("421", "bye"),
            ("552", "5.3.4 too big"),
        ):
            yield stage, code, smtp_refusals.whose(stage, code, words), smtp_refusals.same_words(code, words)


def imports() -> Lines:
    for cells, *_ in cases(test_intake.test_rows_that_cannot_be_taken):
        if max(map(len, cells)) < 99:
            yield told(lambda cells=cells: Reading(match_columns(test_intake.HEAD, {}), UTC).record(cells))
    how = Reading(match_columns(test_intake.HEAD, {}), UTC, source="Fair", consent={"Appeals": "none"}, list_name="Fair")
    for suppressed in (
        "",
        "hard bounce",
        "complaint",
        "unsubscribed",
        "inactive",
        "invalid",
        "other",
        "bad address",
        "no",
    ):
        row = ["m@x.example", "Mira", "2026-01-01", "A; B", "p;", "Europe/Lisbon", "yes", "Form", suppressed, "Saltmere"]
        yield told(lambda row=row: how.record(row))
    for at, value, _ in cases(test_intake.test_bad_events_are_refused_and_the_others_taken):
        bad = [value[:99] if i == at else cell for i, cell in enumerate(test_intake.GOOD)]
        yield read_many([(3, bad)], places(test_intake.EVENTS), UTC)[1]
    report = Report()
    report.note("One sentence.")
    for n in range(3):
        report.refuse(Refusal(n, "at", "no time"))
    yield report.json(), report.clean
    for head in (
        ["email", "vorname"],
        ["E-Mail", "E-mail"],
        ["x"],
        [],
        ["mail", "consent:News", "consent_at:News", "consent:post:News"],
    ):
        yield told(lambda head=head: match_columns(head, {}))
    for address, *_ in cases(test_addresses.test_verdicts):
        yield address, verdicts.judge(address, ["lanternmail.example", "postern.example"])
    for code, words, *_ in cases(test_addresses.test_what_a_mail_host_says):
        yield code, words, verdicts.mailbox_of(code, words)


WRONG: tuple[object, ...] = (
    *(
        "",
        " ",
        "x",
        "x y",
        "a@b",
        "a@x.example",
        "https://a.example",
        "ftp://a",
        "Europe/Lisbon",
        "EUR",
        "eur",
        "9-17",
        "25-3",
    ),
    *("192.0.2.1", "2001:db8::1", "a\x07b", "y" * 1_001, True, None, 0, -1, 1, 70_000, 10**9, 1.5, "none", "tls"),
    *([], ["x"], ["192.0.2.1"], ["a@x.example"], ["x.example"], [1], ["a@x.example"] * 201),
    *(
        {},
        {"a": 1},
        {"complaints": 0.1},
        {"complaints": 2},
        {"x.example": {"after": "+", "dots": True}},
        {"colour": "red"},
    ),
    *(
        {"automatic": True},
        [{"provider": "P", "address": "a@x.example", "listing": "https://a.example"}],
        [{"provider": "P"}],
    ),
)


def values_of_settings() -> Lines:
    for s in SETTINGS.values():
        yield s.name, s.group, s.label, s.kind, s.default, s.help, s.range, shown(s, "x"), shown(s, "")
        answers = [told(lambda s=s, value=value: checked(s, value)) for value in WRONG]
        yield sorted({str(a)[:300] for a in answers})
        yield [told(lambda s=s, t=t: parsed(s, t)) for t in ("on", "no", "3", "a, b", '["a"]', "{")]
        yield [
            s.weakens(a, b) for a, b in ((True, False), (False, True), (1, 2), (2, 1)) if s.kind in ("switch", "number")
        ]


def plans_and_times() -> Lines:
    lisbon, plan = ZoneInfo("Europe/Lisbon"), Plan()
    for changes in (
        {"batches": 0},
        {"batches": 200},
        {"pilot_share": 2.0},
        {"holdout_share": -1.0},
        {"interval": -5},
        {"wait": 1},
        {"largest": 0},
        {"caps": {"1": -1}},
        {"order": "x"},
        {"start": 1},
    ):
        yield changes, told(lambda changes=changes: plan.changed(**changes).check())
    windows = schedule.Windows((9, 17), frozenset({0, 1, 4}))
    for hours in range(0, 24 * 9, 5):
        at = NOW + hours * HOUR
        yield (
            schedule.allowed_from(at, windows, lisbon),
            schedule.local_day(at, lisbon),
            midnight(at, lisbon, 1),
            midnight(at, lisbon, 0),
        )
    for k, n in ((0, 0), (0, 50), (1, 50), (3, 50), (9, 300), (40, 1000)):
        found = [guardrails.read(name, k, n, limit) for name, limit in guardrails.LIMITS.items()]
        yield [(f, f.sentence) for f in found], [guardrails.could_show(n, limit) for limit in guardrails.LIMITS.values()]
    yield [guardrails.enough(limit) for limit in guardrails.LIMITS.values()]
    none, held = uplift.VariantCount("Holdout", 0, 0, 0, 0), uplift.VariantCount("Holdout", 200, 20, 0, 0)
    arms = [uplift.VariantCount(f"V{e}", 400, e, e % 3, e % 2) for e in (0, 1, 20, 40, 41, 90)]
    for one in arms:
        for control in (none, held):
            found_lift = uplift.lift(one, control)
            yield found_lift.verdict, round(found_lift.added, 6), uplift.in_words([found_lift], control)
    yield uplift.in_words([uplift.lift(a, held) for a in arms], held)
    yield [schedule.ramp(p, f) for p, f in ((0, 5), (4, 5), (10, 3), (6_000, 300))]
    yield [schedule.capacity_batch(c, a, b) for c, a, b in ((10, 0.1, 0.5), (0, 0.1, 0.5), (10, 0, 0.5), (5, 0.3, 1))]


def ladders() -> Lines:
    lot = random.Random(7)
    kinds = ("message", "resend", "condition", "wait", "label", "list", "field", "consent request", "suppress", "end")
    for n in range(40):
        steps = tuple(
            Step(
                key=i + 1,
                kind=lot.choice(kinds),
                path=lot.choice((1, 1, 2)),
                of=lot.randrange(0, 4),
                off=lot.random() < 0.2,
            )
            for i in range(lot.randrange(0, 6))
        )
        made = Definition(steps=steps)
        yield n, lacks(made), made.titles(), told(lambda made=made: read(made.json()) == made)


CASES: tuple[Callable[[], Lines], ...] = (
    *(key_records, findings_of_records, findings_of_hosts, sender_policies, mistakes_and_trees, checks_of_messages),
    *(letters_by_blocks, returned_mail, imports, values_of_settings, plans_and_times, ladders),
)


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.__name__)
def test_everything_said_is_as_it_was_read(case: Callable[[], Lines]) -> None:
    kept(case.__name__, in_lines(case()))
