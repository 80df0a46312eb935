"""Addresses, providers, the rows of files."""

from __future__ import annotations

from datetime import datetime
from importlib import resources
from zoneinfo import ZoneInfo

import email_validator
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.addresses.providers import freemail_domains, is_freemail, organisation_of, standing
from openmeadow.core.addresses.syntax import address_key, is_plain, syntax_problem
from openmeadow.core.consent.eligibility import CONSENT_STATES
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.errors import MeadowError
from openmeadow.core.imports.dates import STYLES, moment, moment_as, styles_of
from openmeadow.core.imports.event_log import Chunk, Event, places, read, read_many
from openmeadow.core.imports.report import Refusal
from openmeadow.core.imports.subscribers import BadCell, Reading, match_columns, split_channel

UTC = ZoneInfo("UTC")
atoms = st.text(st.sampled_from("aZ0.-_+'\"@ é~"), min_size=1, max_size=12)


@given(atoms, st.lists(st.text(st.sampled_from("ab0-é_"), min_size=1, max_size=8), min_size=1, max_size=3))
def test_the_quick_path_never_says_yes_where_the_library_says_no(local: str, labels: list[str]) -> None:
    address = f"{local}@{'.'.join(labels)}.example"
    if is_plain(address):
        email_validator.validate_email(address, check_deliverability=False, globally_deliverable=False)


@pytest.mark.parametrize(
    ("address", "fine"),
    [
        ("a@x.example", True),
        ("a.b+c@x.example", True),
        ("é@x.example", True),
        ("a@bücher.example", True),
        ("a@x", False),
        ("a@", False),
        ("@x.example", False),
        ("a..b@x.example", False),
        ("a@x..example", False),
        ("a" * 65 + "@x.example", False),
        ("a@" + "b" * 64 + ".example", False),
        ("a b@x.example", False),
        ("a@-x.example", False),
        ("a@x.example.", False),
        ("a@" + ".".join(["b" * 60] * 5) + ".example", False),
    ],
)
def test_address_syntax(address: str, fine: bool) -> None:
    assert (syntax_problem(address) is None) is fine


def test_keys_compare_as_people_would() -> None:
    assert address_key("Mira.Quill@Lanternmail.EXAMPLE") == "mira.quill@lanternmail.example"
    assert address_key("x@BÜCHER.example") == address_key("X@xn--bcher-kva.example")
    assert address_key("É@x.example") == address_key("é@x.example")
    assert organisation_of(["mx1.in.postern.example.", "mx.other.example"]) == "postern.example"
    assert organisation_of([]) == organisation_of(["."]) == ""
    assert standing({"a.example": 100, "b.example": 5, "c.example": 4, "": 900}, 1000) == ["a.example", "b.example"]
    assert standing({"a.example": 100}, 1_000_000) == ["a.example"] and standing({}, 0) == []
    assert is_freemail(freemail_domains()[0].upper()) and not is_freemail("kestrelquay.example")
    assert is_freemail("Lanternmail.example", {"lanternmail.example"}) and not is_freemail("lanternmail.example")


SHIPPED = Machines.read((resources.files("openmeadow.core.data") / "machines.json").read_text())


@pytest.mark.parametrize(
    ("agent", "ip", "listed"),
    [
        ("PrivacyProxy/2.0", "", True),
        ("Reader", "203.0.113.130", True),
        ("Reader", "203.0.113.1", False),
        ("", "2001:db8:ffff::1", True),
        ("", "not an address", False),
    ],
)
def test_listed_machines(agent: str, ip: str, listed: bool) -> None:
    assert SHIPPED.has(agent, ip) is listed


def test_moments() -> None:
    assert moment("2026-03-12T09:42:00Z") == moment("2026-03-12T10:42:00+01:00") == 1_773_308_520
    assert moment("2026-07-01", ZoneInfo("Europe/Lisbon")) == moment("2026-06-30T23:00:00Z")
    with pytest.raises(ValueError):
        moment("12/03/2026")


def test_columns_are_matched_corrected_and_left_out() -> None:
    head = ["E-Mail", "Name", "Joined at", "consent:Season news", "Town", "junk"]
    assert match_columns(head, {"junk": ""}) == ["email", "name", "joined_at", "consent:Season news", "Town", ""]
    assert match_columns(["who", "x"], {"who": "email"})[0] == "email"
    for bad, words in (
        (["email", "Email"], "Two columns are mapped to email"),
        (["email", "e"], "There is no column “zz”"),
        (["email"] * 2001, "the limit is 2,000"),
    ):
        with pytest.raises(MeadowError, match=words):
            match_columns(bad, {"zz": "email"} if words.startswith("There") else {})


HEAD = [
    "email",
    "name",
    "joined_at",
    "list",
    "labels",
    "time_zone",
    "consent:Season news",
    "consent_source:Season news",
    "suppressed",
    "town",
]


@pytest.mark.parametrize(
    ("cells", "column", "reason"),
    [
        (["", "x"], "email", "there is no address"),
        (["a@b"], "email", "the domain has no dot"),
        (["a@x.example", "", "31.12.2025"], "joined_at", "is not a date"),
        (["a@x.example", "", "", "", "", "Mars/Base"], "time_zone", "is not a time zone"),
        (["a@x.example", "", "", "", "", "", "maybe"], "consent:Season news", "is not a consent"),
        (["a@x.example", "n" * 65_537], "name", "over 64 kB"),
        (["a@x.example"] + ["x"] * 10, "", "the row has 11 cells"),
    ],
)
def test_rows_that_cannot_be_taken(cells: list[str], column: str, reason: str) -> None:
    with pytest.raises(BadCell, match=reason) as caught:
        Reading(match_columns(HEAD, {}), UTC).record(cells)
    assert caught.value.column == column


def test_a_row_that_can() -> None:
    how = Reading(match_columns(HEAD, {}), UTC, source="Fair", consent={"Appeals": "none"}, list_name="Fair")
    r = how.record(
        [
            "Mira@X.example",
            " Mira ",
            "2026-01-01",
            "A; B",
            "patron;",
            "Europe/Lisbon",
            "Given",
            "Form",
            "unsubscribed",
            "Saltmere",
        ]
    )
    assert (r.email, r.key, r.name, r.lists, r.labels) == (
        "Mira@X.example",
        "mira@x.example",
        "Mira",
        ("A", "B", "Fair"),
        ("patron",),
    )
    assert [(c.purpose, c.state, c.source) for c in r.consents] == [("Appeals", 0, "Fair"), ("Season news", 1, "Form")]
    assert r.suppressed == 3 and r.fields == {"town": "Saltmere"}


EVENTS = ["at", "event", "email", "message", "url", "agent", "value", "code"]
GOOD = ["2026-03-12T09:42:00Z", "clicked", "A@x.example", "News", "https://x.example", "Reader", "", ""]


@pytest.mark.parametrize(
    ("at", "value", "column"),
    [
        (0, "yesterday", "at"),
        (1, "looked", "event"),
        (2, "nobody", "email"),
        (3, "", "message"),
        (6, "much", "value"),
        (6, "nan", "value"),
        (6, "inf", "value"),
        (5, "\udcff", "agent"),
        (5, "x" * 70_000, "agent"),
        (0, "9999999", "at"),
    ],
)
def test_bad_events_are_refused_and_the_others_taken(at: int, value: str, column: str) -> None:
    bad = [*GOOD]
    bad[at] = value
    where = places(EVENTS)
    chunk, refused = read_many([(2, GOOD), (3, bad), (4, GOOD)], where, UTC)
    assert len(chunk.at) == 2
    assert [(r.line, r.column) for r in refused] == [(3, column)]


@given(
    st.lists(
        st.tuples(
            st.sampled_from(["2026-03-12T09:42:00Z", "2026-01-01"]),
            st.sampled_from(["sent", "opened", "booked", "complained"]),
            st.sampled_from([" a@X.example", "É@x.example"]),
            st.sampled_from(["News", "ñ"]),
            st.sampled_from(["", "u"]),
            st.sampled_from(["", "agent"]),
            st.sampled_from(["", "12.5"]),
            st.sampled_from(["", "5.1.1"]),
        ),
        min_size=1,
    )
)
def test_columns_at_once_equal_row_by_row(rows: list[tuple[str, ...]]) -> None:
    where = places(EVENTS)
    chunk, refused = read_many([(i, list(r)) for i, r in enumerate(rows)], where, UTC)
    slow = [read([r[i] if i >= 0 else "" for i in where], 1, UTC) for r in rows]
    assert not refused and not any(isinstance(x, Refusal) for x in slow)
    expected = Chunk.of([x for x in slow if isinstance(x, Event)])
    assert [list(c) for c in chunk] == [list(c) for c in expected]


def test_a_log_without_its_columns_is_refused() -> None:
    with pytest.raises(MeadowError, match="no column “event”"):
        places(["at", "email", "message"])


@pytest.mark.parametrize(
    "heading",
    "E-Mail-Adresse;correo;e_mail;Courriel;E-post;Indirizzo e-mail;Correo electrónico;MAIL;Email Address".split(";"),
)
def test_any_heading_of_an_address_is_known(heading: str) -> None:
    assert match_columns(["Town", heading], {}) == ["Town", "email"]


@pytest.mark.parametrize(
    ("head", "row", "targets"),
    [
        (["Kontakt", "Ort"], ["mira@x.example", "Saltmere"], ["email", "Ort"]),
        (["Address", "Reach me at"], ["5 Quay Street", "mira@x.example"], ["email", "Reach me at"]),
        (["Address", "E-Mail"], ["5 Quay Street", "mira@x.example"], ["Address", "email"]),
        (["Town", "Shoe"], ["Saltmere", "41"], ["Town", "Shoe"]),
    ],
)
def test_where_no_heading_says_it_the_cells_do(head: list[str], row: list[str], targets: list[str]) -> None:
    assert match_columns(head, {}, rows=[row] * 3) == targets


@pytest.mark.parametrize(
    ("cell", "state"),
    [(c, "given") for c in ("Yes", "true", "1", "JA", "oui", "sí", "given")]
    + [(c, "none") for c in ("no", "FALSE", "0", "nein", "non")]
    + [("unsubscribed", "withdrawn"), ("pending", "pending"), ("perhaps", None), ("abo", "given"), ("Weg", "withdrawn")],
)
def test_consent_in_the_words_people_write(cell: str, state: str | None) -> None:
    values = {"consent:News": {"abo": "given", "weg": "withdrawn"}}
    how = Reading(["email", "consent:News"], UTC, source="Fair", wording="Four letters a year", values=values)
    if state is None:
        with pytest.raises(BadCell, match="is not a consent state"):
            how.record(["a@x.example", cell])
    else:
        (claim,) = how.record(["a@x.example", cell]).consents
        assert (CONSENT_STATES[claim.state], claim.wording) == (state, "Four letters a year")


@pytest.mark.parametrize(
    ("samples", "styles"),
    [
        (["12.03.2026", "99.99.2026", "31.12.2025"], ["day first"]),
        (["2026-03-12", "2026-03-12T14:10:00+00:00"], ["year first"]),
        (["12.03.2026", "31.12.2025 14:10"], ["day first"]),
        (["03/12/2026", "12/31/2025"], ["month first"]),
        (["03/04/2026", "05/06/2026"], ["day first", "month first"]),
        (["12 Mar 2026", "1 January 2025"], ["text month"]),
        (["1773308520", "1773308520000"], ["unix seconds"]),
        (["12.03.2026", "2026-03-12"], []),
        (["soon"], []),
        ([], []),
    ],
)
def test_the_writing_of_dates_is_found_by_looking(samples: list[str], styles: list[str]) -> None:
    assert styles_of(samples) == styles


@given(st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)), st.sampled_from(sorted(STYLES)))
def test_a_date_in_any_writing_is_the_same_day(when: datetime, style: str) -> None:
    written = {
        "year first": f"{when:%Y-%m-%d}",
        "day first": f"{when:%d/%m/%Y}",
        "month first": f"{when:%m/%d/%Y}",
        "text month": f"{when:%d %b %Y}",
        "unix seconds": str(int(when.replace(hour=0, minute=0, second=0, tzinfo=UTC).timestamp())),
    }[style]
    zone = ZoneInfo("Europe/Lisbon") if style != "unix seconds" else ZoneInfo("UTC")
    midnight = datetime(when.year, when.month, when.day, tzinfo=zone)
    assert moment_as(written, style, zone) == int(midnight.timestamp())


def test_headings_in_other_words_are_proposed_and_channels_read() -> None:
    head = ["Mail", "Signed up", "Since", "Tags", "Shoe"]
    assert match_columns(head, {}, guess=True) == ["email", "joined_at", "Since", "labels", "Shoe"], "never twice"
    assert match_columns(head, {}) == ["email", "Signed up", "Since", "Tags", "Shoe"], "a script gets what it names"
    assert match_columns(head, {"Since": "joined_at"}, guess=True)[1:3] == ["Signed up", "joined_at"]
    assert split_channel("News: late: post") == ("News: late", "post") and split_channel("News: late") == (
        "News: late",
        "email",
    )
    reading = Reading(["email", "consent:News:post", "consent:News"], ZoneInfo("UTC"), source="form")
    claims = reading.record(["a@x.example", "given", "withdrawn"]).consents
    assert [(c.purpose, c.channel, c.state) for c in claims] == [("News", "email", 2), ("News", "post", 1)]
