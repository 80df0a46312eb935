"""One person under two addresses: found and merged, and every word of theirs kept."""

from __future__ import annotations

from pathlib import Path

import pytest

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.services.subscribers import duplicates, import_subscribers, undo
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.subscribers import subscribers
from tests.conftest import NOW
from tests.services.test_bring_in import put

HEAD = "email,name,list,labels,town,language,suppressed,consent:News,consent_at:News,consent_source:News"
KEEP = SubscriberId(1)


def told(workspace: Workspace, folder: Path, *rows: str) -> None:
    import_subscribers.run(workspace.store, put(folder, "p.csv", "\n".join([HEAD, *rows, ""])), NOW, "t")


def state(workspace: Workspace) -> tuple[object, ...]:
    db = workspace.store.read()
    row = subscribers.subscriber(db, KEEP)
    assert row is not None
    said = [(e.state, e.at, e.source) for e in subscribers.consent_history(db, KEEP)]
    barred = [(s.reason, s.source) for i in (1, 2) for s in subscribers.suppressions_of(db, SubscriberId(i))]
    return row.fields, row.language, subscribers.lists_of(db, KEEP), subscribers.labels_of(db, KEEP), said, barred


def test_what_is_missing_is_taken_over_and_undone(workspace: Workspace, folder: Path) -> None:
    told(
        workspace,
        folder,
        "mira.holt@x.example,Mira Holt,Foyer,,,,,,,",
        "mira.holt@y.example,Mira Holt,Box office,patron,Saltmere,en,,given,2025-02-01T00:00:00Z,Foyer form",
    )
    before = state(workspace)
    (pair,) = duplicates.found(workspace)
    assert (pair.keep.id, pair.other.id, pair.why) == (1, 2, "same name, same part before the @")
    plan = duplicates.plan(workspace, KEEP, " Mira.Holt@Y.example ")
    assert plan.takes == [
        "Lists: Box office",
        "Labels: patron",
        "Empty here, filled from there: language, town",
        "Consent to News by email: given there",
    ]
    assert state(workspace) == before
    action = duplicates.merge(workspace, KEEP, "mira.holt@y.example", "t")
    fields, language, lists, labels, said, barred = state(workspace)
    assert (fields, language, lists, labels) == ({"town": "Saltmere"}, "en", ["Box office", "Foyer"], ["patron"])
    assert said == [(1, 1_738_368_000, "Foyer form, as mira.holt@y.example")]
    assert barred == [(duplicates.OTHER, "same person as mira.holt@x.example")]
    assert workspace.count('permitted for "News"')[0] == 1 and duplicates.found(workspace) == []
    undo.undo(workspace, action, "t")
    assert state(workspace) == before and workspace.count('permitted for "News"')[0] == 1


@pytest.mark.parametrize(
    ("mine", "theirs", "permitted"),
    [
        ("given,2025-01-01T00:00:00Z,Form", "withdrawn,2025-02-01T00:00:00Z,Page", False),
        ("given,2025-03-01T00:00:00Z,Form", "withdrawn,2025-02-01T00:00:00Z,Page", True),
        ("withdrawn,2025-01-01T00:00:00Z,Page", "given,2025-02-01T00:00:00Z,Form", False),
        ("pending,2025-01-01T00:00:00Z,Form", "given,2025-02-01T00:00:00Z,Form", False),
        (",,", "pending,2025-02-01T00:00:00Z,Form", False),
    ],
)
def test_a_withdrawal_is_never_lost(workspace: Workspace, folder: Path, mine: str, theirs: str, permitted: bool) -> None:
    told(workspace, folder, f"a@x.example,,,,,,,{mine}", f"b@x.example,,,,,,,{theirs}")
    duplicates.merge(workspace, KEEP, "b@x.example", "t")
    assert workspace.count('permitted for "News"')[0] == permitted


def test_what_a_person_said_goes_along_and_a_bounce_does_not(workspace: Workspace, folder: Path) -> None:
    told(workspace, folder, "a@x.example,,,,,,,,,", "b@x.example,,,,,,complaint,,,", "c@x.example,,,,,,hard bounce,,,")
    for email in ("b@x.example", "c@x.example"):
        duplicates.merge(workspace, KEEP, email, "t")
    reasons = [s.reason for s in subscribers.suppressions_of(workspace.store.read(), KEEP)]
    assert reasons == [2]
    for email, error in (("a@x.example", Refused), ("d@x.example", Missing)):
        with pytest.raises(error):
            duplicates.plan(workspace, KEEP, email)


def test_aliases_of_one_mailbox_are_found(workspace: Workspace, folder: Path) -> None:
    with workspace.store.atomic() as db:
        settings.set_setting(db, "alias_rules", {"x.example": {"after": "+", "dots": True}})
    rows = (
        "o.berg+a@x.example",
        "oberg@x.example",
        "o+c@x.example",
        "oberg@y.example",
        "info@x.example",
        "info@y.example",
    )
    told(workspace, folder, *(f"{email},Otto Berg,,,,,,,," for email in rows))
    found = {(d.keep.email, d.other.email, d.why) for d in duplicates.found(workspace)}
    assert found == {
        ("o.berg+a@x.example", "oberg@x.example", "same mailbox"),
        ("oberg@x.example", "oberg@y.example", "same name, same part before the @"),
    }
