"""Consent that can be proved: the chain, wordings, words by hand and by the person, suppression and what lifts it."""

from __future__ import annotations

import json
import sqlite3
import time
from itertools import permutations
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from openmeadow.cli.main import main
from openmeadow.core.consent.evidence import START, Entry, digest, sealed, verify
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.services.subscribers import consent, erasure, evidence_check, import_events, import_subscribers, undo
from openmeadow.services.workspace import Workspace
from openmeadow.store.subscribers import consent as table
from openmeadow.store.subscribers import subscribers as people_table
from tests.conftest import NOW, empty_into, set_clock
from tests.services.test_acts import put

KEY = b"k" * 32
PEOPLE = """email,name,joined_at,list,consent:News,consent_source:News
mira@x.example,Mira,2025-01-01,Foyer,given,Foyer form
otto@x.example,Otto,2025-01-02,Foyer,given,Foyer form
selma@x.example,Selma,2025-02-01,Foyer,none,
"""


@pytest.fixture
def full(workspace: Workspace, folder: Path) -> Workspace:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    return workspace


def permitted(workspace: Workspace) -> list[int]:
    view = workspace.view()
    return view.columns.people.id[view.mask(workspace.checked_rule('permitted for "News"', view))].tolist()  # type: ignore[no-any-return]


def chain_of(count: int) -> tuple[list[tuple[Entry, str | None]], str]:
    before, out = START, []
    for i in range(count):
        said = digest("form", None, str(i))
        entry = Entry(i % 3, 1, "email", i % 4, NOW + i, "form", said, before)
        out.append((entry, said))
        before = sealed(KEY, entry)
    return out, before


@given(st.integers(1, 12), st.data())
def test_any_change_to_the_chain_is_found(count: int, data: st.DataObject) -> None:
    chain, head = chain_of(count)
    assert verify(KEY, iter(chain), head, count) == (count, None)
    assert verify(b"another key", iter(chain), head, count)[1] is not None
    at = data.draw(st.integers(0, count - 1))
    entry, said = chain[at]
    how = data.draw(st.sampled_from(["state", "at", "words", "taken out", "twice", "swapped", "erased"]))
    changed = list(chain)
    if how == "state":
        changed[at] = (entry._replace(state=entry.state + 1), said)
    elif how == "at":
        changed[at] = (entry._replace(at=entry.at - 1), said)
    elif how == "words":
        changed[at] = (entry, digest("form", None, "other"))
    elif how == "taken out":
        del changed[at]
    elif how == "twice":
        changed.insert(at, chain[at])
    elif how == "swapped" and at + 1 < count:
        changed[at], changed[at + 1] = changed[at + 1], changed[at]
    else:
        changed[at] = (entry, None)  # erased words do not break the chain
    broken = verify(KEY, iter(changed), head, count)[1]
    harmless = changed == chain or (len(changed) == count and changed[at] == (entry, None))
    assert (broken is None) is harmless, (how, broken)


def test_the_chain_of_a_workspace(full: Workspace, folder: Path) -> None:
    consent.by_hand(full, 3, 1, "given", "said so at the box office", "mira")
    import_subscribers.run(full.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    assert consent.check_evidence(full).model_dump() == {"entries": 4, "verified": True, "broken_at": None, "what": ""}
    report = import_subscribers.run(full.store, put(folder, "p2.csv", PEOPLE.replace("given", "withdrawn")), NOW, "t")
    assert permitted(full) == [3] and consent.check_evidence(full).entries == 6
    assert evidence_check.see(full).entries == 6 and not evidence_check.see(full).pending
    assert evidence_check.see(full, at_once=5).pending  # a long record is verified beside the request
    end = time.monotonic() + 20
    while (seen := evidence_check.see(full, at_once=5)).pending and time.monotonic() < end:
        time.sleep(0.01)
    assert seen.verified and seen.entries == 6
    assert report.action
    undo.undo(full, report.action, "t")
    assert permitted(full) == [1, 2, 3] and consent.check_evidence(full).entries == 6, "void entries stay in the chain"
    erasure.erase(full, 3, "t")
    assert consent.check_evidence(full).verified, "erasing words leaves their digest"
    run = CliRunner().invoke(main, ["--data", str(folder), "consent", "verify", "--json"])
    assert run.exit_code == 0 and json.loads(run.stdout)["verified"]
    out = folder / "evidence.csv"
    assert CliRunner().invoke(main, ["--data", str(folder), "consent", "export", "-o", str(out)]).exit_code == 0
    lines = out.read_text().splitlines()
    assert len(lines) == 7 and lines[1].split(",")[1:8] == [
        "mira@x.example",
        "News",
        "email",
        "given",
        "import",
        "Foyer form",
        "",
    ]
    one = folder / "one.ndjson"
    CliRunner().invoke(main, ["--data", str(folder), "consent", "export", "otto@x.example", "-o", str(one)])
    told = [json.loads(line) for line in one.read_text().splitlines()]
    assert [(t["state"], t["void"]) for t in told] == [("given", ""), ("withdrawn", "of an undone import")]
    db = sqlite3.connect(folder / "meadow.db")
    db.execute("UPDATE consent_entries SET state = 1 WHERE state = 2")
    db.commit()
    db.close()
    run = CliRunner().invoke(main, ["--data", str(folder), "consent", "verify"])
    assert run.exit_code == 1 and "failed at entry 6" in run.stdout, run.stdout


word = st.tuples(st.sampled_from(["import", "hand", "page"]), st.sampled_from(["given", "withdrawn"]), st.integers(1, 40))


@settings(suppress_health_check=list(HealthCheck))
@given(st.lists(word, min_size=1, max_size=5, unique_by=lambda w: w[2]), st.randoms(use_true_random=False))
def test_the_latest_word_decides_whatever_the_order(
    tmp_path_factory: pytest.TempPathFactory, words: list[tuple[str, str, int]], r: object
) -> None:
    """Imports come in any order; what people say themselves comes when it comes. Whose latest word was no gets nothing."""
    folder = tmp_path_factory.mktemp("order")
    empty_into(folder)
    (folder / "clock").write_text(str(NOW - 50 * DAY))
    workspace = Workspace(folder)
    own = sorted((w for w in words if w[0] != "import"), key=lambda w: -w[2])
    files = [w for w in words if w[0] == "import"]
    r.shuffle(files)  # type: ignore[attr-defined]
    import_subscribers.run(
        workspace.store, put(folder, "0.csv", "email,consent:News\na@x.example,none\n"), NOW - 50 * DAY, "t"
    )
    for n, (_, state, ago) in enumerate(files):
        text = (
            f"email,consent:News,consent_at:News,consent_source:News\na@x.example,{state},{rfc3339(NOW - ago * DAY)},f\n"
        )
        import_subscribers.run(workspace.store, put(folder, f"{n}.csv", text), NOW, "t")
    for how, state, ago in own:
        set_clock(workspace, NOW - ago * DAY)
        if how == "hand":
            consent.by_hand(workspace, 1, 1, state, "said so", "t")
        else:
            consent.said(workspace, 1, 1, 1 if state == "given" else 2, "preference page")
    set_clock(workspace, NOW)
    latest = min(words, key=lambda w: w[2])[1]
    assert permitted(workspace) == ([1] if latest == "given" else []), words
    assert consent.check_evidence(workspace).verified
    workspace.close()


def test_a_withdrawal_stands_whatever_the_order_of_files(workspace: Workspace, folder: Path) -> None:
    older, no, undated = (
        "email,consent:News,consent_at:News,consent_source:News\na@x.example,given,2025-01-01,f\n",
        "email,consent:News,consent_at:News\na@x.example,withdrawn,2025-06-01\n",
        "email,joined_at,consent:News,consent_source:News\na@x.example,2024-01-01,given,f\n",
    )
    for n, order in enumerate(permutations((older, no, undated))):
        for text in order:
            import_subscribers.run(workspace.store, put(folder, "x.csv", text.replace("a@", f"a{n}@")), NOW, "t")
    assert permitted(workspace) == [] and workspace.count('consent to "News" by email is withdrawn')[0] == 6


def test_wordings_are_never_edited_once_agreed_to(full: Workspace) -> None:
    news = consent.write_purpose(full, 1, {"text": "We write about evenings."}, "t")
    consent.write_purpose(full, news, {"text": "We write about our evenings."}, "t")
    consent.by_hand(full, 3, news, "given", "at the workspace", "t")
    consent.write_purpose(full, news, {"text": "Evenings and mornings.", "basis": "legitimate interest"}, "t")
    found = {w.version: w.text for w in table.wordings(full.store.read(), news)}
    assert found == {1: "We write about evenings.", 2: "We write about our evenings.", 3: "Evenings and mornings."}
    assert table.entries(full.store.read(), 3).__next__().wording is None
    assert [e.wording for e in table.entries(full.store.read(), 3)][-1] is None, "said by hand, nothing was shown"
    other = consent.write_purpose(full, None, {"name": "Tickets", "transactional": True, "basis": "contract"}, "t")
    assert full.count('permitted for "Tickets"')[0] == 0, "service needs no consent, but a booking or a contract"
    told = {p.name: p for p in consent.purposes(full)}
    assert told["News"].counts.given == 3 == told["News"].version and told["News"].counts.withdrawn == 0
    for id, values, words in (
        (None, {"name": " "}, "needs a name"),
        (None, {"name": "news"}, "already a purpose"),
        (other, {"name": "News"}, "already a purpose"),
        (other, {"basis": "because"}, "is one of consent, contract"),
    ):
        with pytest.raises(Refused, match=words):
            consent.write_purpose(full, id, values, "t")
    with pytest.raises(Missing):
        consent.write_purpose(full, 99, {"basis": "consent"}, "t")


def test_what_is_said_by_hand_needs_its_reason(full: Workspace) -> None:
    for state, reason, words in (("given", " ", "Enter the evidence"), ("pending", "x", "given or withdrawn")):
        with pytest.raises(Refused, match=words):
            consent.by_hand(full, 1, 1, state, reason, "t")
    with pytest.raises(Missing):
        consent.by_hand(full, 99, 1, "given", "x", "t")


@pytest.mark.parametrize(
    ("reason", "code", "by_hand"),
    [
        ("hard bounce", 1, True),
        ("complaint", 2, False),
        ("unsubscribed from all", 3, False),
        ("inactive", 4, False),
        ("bad address", 5, True),
    ],
)
def test_what_lifts_a_suppression(full: Workspace, reason: str, code: int, by_hand: bool) -> None:
    with full.store.atomic() as db:
        people_table.add_suppressions(db, [(1, code, NOW - DAY, "t", None)])
    assert 1 not in permitted(full)
    if by_hand:
        with pytest.raises(Refused, match="Enter a reason"):
            consent.lift(full, 1, reason, "", "t")
        action = consent.lift(full, 1, reason, "the mailbox works again", "t")
        assert 1 in permitted(full)
        undo.undo(full, action, "t")
        assert 1 not in permitted(full)
        consent.said(full, 1, 1, 1, "confirmation link")
        assert 1 not in permitted(full), "a yes mends no mailbox"
        return
    with pytest.raises(Refused, match="can be removed only by a new opt-in"):
        consent.lift(full, 1, reason, "please", "t")
    consent.said(full, 1, 1, 1, "confirmation link")
    assert 1 in permitted(full), "their own new yes brings them back"


def test_pauses_and_fewer_messages_are_honoured(full: Workspace, folder: Path) -> None:
    sent = ((5, "mira@x.example"), (20, "otto@x.example"))
    log = "at,event,email,message\n" + "".join(f"{rfc3339(NOW - d * DAY)},sent,{who},N\n" for d, who in sent)
    import_events.run(full.store, put(folder, "e.csv", log), NOW, "t")
    facts = full.view().facts
    assert facts.may("News", limits=True).permitted.tolist() == [True, True, False]  # type: ignore[attr-defined]
    consent.prefer(full, 1, "week", 0)
    consent.prefer(full, 2, "month", 0)
    answer = full.view().facts.may("News", limits=True)  # type: ignore[attr-defined]
    assert [answer.why_not(i) for i in range(3)] == [["frequency limit"], ["frequency limit"], ["no consent"]]
    set_clock(full, NOW + 3 * DAY)
    assert full.view().facts.may("News", limits=True).permitted.tolist() == [True, False, False]  # type: ignore[attr-defined]
    consent.prefer(full, 1, None, 30)
    assert permitted(full) == [2]
    set_clock(full, NOW + 34 * DAY)
    assert permitted(full) == [1, 2], "the pause is over"
    with pytest.raises(Refused, match="one a week or one a month"):
        consent.prefer(full, 1, "year", 0)
    consent.stop_everything(full, 1, "preference page")
    consent.stop_everything(full, 1, "preference page")
    assert permitted(full) == [2] and full.count("suppressed")[0] == 1
    listed = consent.suppression_list(full)
    assert (listed.total, listed.rows[0].reason, listed.rows[0].liftable) == (1, "unsubscribed from all", False)


def test_five_soft_bounces_over_a_month_suppress(full: Workspace, folder: Path) -> None:
    def bounce(email: str, days: list[int]) -> str:
        return "".join(f"{rfc3339(NOW - d * DAY)},bounced,{email},M{d},452 4.2.2\n" for d in days)

    text = (
        "at,event,email,message,code\n"
        + bounce("mira@x.example", [40, 30, 20, 10, 2])
        + bounce("otto@x.example", [9, 8, 7, 6, 5])
    )
    import_events.run(full.store, put(folder, "e.csv", text), NOW, "t")
    assert (consent.suppress_repeated_soft(full), consent.suppress_repeated_soft(full)) == (1, 0)
    assert full.count("suppressed")[0] == 1 and permitted(full) == [2], "five within a week are not a month"
