"""Addresses in mail: nobody can make one, change one, or use one for something else; looking at a page does nothing."""

from __future__ import annotations

import string
from collections.abc import Iterator
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.web.app import make_app
from tests.services.mailing import Mailing, deliveries_of, mailing

PAGES = {"o": "/o/", "c": "/c/", "u": "/u/", "p": "/p/", "m": "/m/", "b": "/b/"}
CONFIRMS = ("k", "s", "a", "r", "w")  # all under /k/, each with a button of its own
LETTERS = string.ascii_letters + string.digits + "-_~.%/"


@pytest.fixture(scope="module")
def sent(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Mailing, FlaskClient, int, int]]:
    """A workspace that has mailed two people: it, a client, a delivery and a link of it."""
    folder = tmp_path_factory.mktemp("tokens") / "data"
    folder.mkdir()
    (folder / "clock").write_text("1773308520")
    with mailing(folder, 2) as m, make_app(m.workspace).test_client() as client:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        db = m.workspace.store.read()
        d = deliveries_of(db, m.campaign, "first")[0]
        link = campaign_table.links(db, deliveries.delivery(db, d.id).message)[0].id
        yield m, client, int(d.id), int(link)


def state(m: Mailing) -> tuple[int, ...]:
    """How much is known: events, words of consent, suppressions, confirmed from-addresses."""
    db = m.workspace.store.read()
    tables = ("events", "consent_entries", "suppressions", "signups")
    counts = [int(db.execute(f"SELECT count(*) AS n FROM {t}").fetchone()["n"]) for t in tables]
    return (*counts, sum(r["confirmed_at"] is not None for r in db.execute("SELECT confirmed_at FROM from_addresses")))


@settings(suppress_health_check=list(HealthCheck))
@given(st.data())
def test_a_token_that_was_changed_is_a_plain_404_and_does_nothing(
    sent: tuple[Mailing, FlaskClient, int, int], data: st.DataObject
) -> None:
    m, client, delivery, link = sent
    kind = data.draw(st.sampled_from([*PAGES, *CONFIRMS]))
    token = m.tokens.make(kind, delivery, link if kind == "c" else 0)
    how = data.draw(st.sampled_from(["letter", "cut", "longer", "other"]))
    at = data.draw(st.integers(0, len(token) - 1))
    if how == "letter":
        changed = token[:at] + data.draw(st.sampled_from(LETTERS.replace(token[at], ""))) + token[at + 1 :]
    elif how == "cut":
        changed = token[:at]
    elif how == "longer":
        changed = token[:at] + data.draw(st.text(LETTERS, min_size=1, max_size=5)) + token[at:]
    else:  # a token of the same workspace, for another use
        other = data.draw(
            st.sampled_from([k for k in [*PAGES, *CONFIRMS] if k != kind and not {k, kind} <= set(CONFIRMS)])
        )
        changed = m.tokens.make(other, delivery, 0)
    page = PAGES.get(kind, "/k/")
    before = state(m)
    for answer in (client.get(page + changed), client.post(page + changed, data={"List-Unsubscribe": "One-Click"})):
        assert answer.status_code in (404, 405, 308), (page, changed, answer.status_code)
        assert answer.status_code != 404 or len(answer.data) < 300, "nothing is told about why"
    assert state(m) == before


@pytest.mark.parametrize("kind", ["u", "p", "m", *CONFIRMS])
def test_looking_at_a_page_does_nothing(sent: tuple[Mailing, FlaskClient, int, int], kind: str) -> None:
    """Machines follow every link of a message: they unsubscribe nobody and confirm nobody."""
    m, client, delivery, _ = sent
    number = 1 if kind in ("k", "p") else delivery
    before = state(m)
    for _ in range(2):
        answer = client.get(PAGES.get(kind, "/k/") + m.tokens.make(kind, number))
        assert answer.status_code == 200, kind
        assert client.head(PAGES.get(kind, "/k/") + m.tokens.make(kind, number)).status_code == 200
    assert state(m) == before


@settings(suppress_health_check=list(HealthCheck))
@given(st.sampled_from("ocukpmbsarwq"), st.integers(0, 2**63), st.integers(0, 2**32 - 1))
def test_a_token_means_what_was_put_into_it(tmp_path: Path, kind: str, number: int, link: int) -> None:
    tokens = Tokens(tmp_path)
    token = tokens.make(kind, number, link)
    assert tokens.read(token, kind) == (kind, number, link) and "@" not in token
    assert all(tokens.read(token, k) is None for k in "ocukpmbsarwq" if k != kind)
    other = tmp_path / "other"
    other.mkdir(exist_ok=True)
    assert Tokens(other).read(token, kind) is None, "another workspace's secret makes other tokens"


@settings(suppress_health_check=list(HealthCheck))
@given(st.integers(1, 2**40), st.integers(0, 11), st.sampled_from("0123456789abcdef"))
def test_a_return_path_is_believed_only_as_it_was_made(tmp_path: Path, delivery: int, at: int, letter: str) -> None:
    tokens = Tokens(tmp_path)
    address = tokens.return_path(delivery, "bounce.quay.example")
    assert tokens.delivery_of(address) == delivery == tokens.delivery_of(address.upper())
    front, _, rest = address.partition("-")
    changed = f"{front}-{rest[:at]}{letter}{rest[at + 1 :]}"
    assert tokens.delivery_of(changed) == (delivery if changed == address else None)
    assert tokens.delivery_of(f"b{delivery + 1}-{rest}") is None
    assert tokens.delivery_of("hello@quay.example") is None and tokens.delivery_of("b-@x") is None
