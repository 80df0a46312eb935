"""Fields of the workspace's own: types, names and their end, and how each is undone."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from openmeadow.core.errors import Missing, Refused
from openmeadow.services import models
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import fields, import_subscribers, profile, undo
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.subscribers import fields as table
from tests.conftest import NOW
from tests.services.test_bring_in import put

PEOPLE = """email,town,birthday,spent
mira@x.example,Saltmere,12.03.1980,"1,5"
otto@x.example,Northwick,24.12.1975,20
selma@x.example,,soon,a lot
"""


@pytest.fixture
def full(workspace: Workspace, folder: Path) -> Workspace:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    return workspace


def found(workspace: Workspace, name: str) -> dict[int, str]:
    db = workspace.store.read()
    return dict(table.values(db, name, table.holders(db, name)))


def test_a_type_rewrites_what_fits_and_says_what_does_not(full: Workspace) -> None:
    asked = models.FieldTrialIn(name="birthday", type="date")
    trial = fields.trial(full, asked)
    assert (trial.values, trial.unfit, trial.rewritten, trial.examples) == (3, 1, 2, ["soon"])
    assert trial.style == "day first"
    assert full.count('field "birthday" is before 1979-01-01')[0] == 0
    action = fields.set_type(full, asked.model_copy(update={"style": trial.style}), "t")
    assert found(full, "birthday") == {1: "1980-03-12", 2: "1975-12-24", 3: "soon"}
    assert full.count('field "birthday" is before 1979-01-01')[0] == 1
    profile.edit(full, 2, {"fields": {"birthday": "1975-12-25"}}, "t")
    assert undo.undo(full, action, "t") == "“birthday” holds text again; values written as before: 1."
    assert found(full, "birthday") == {1: "12.03.1980", 2: "1975-12-25", 3: "soon"}
    with pytest.raises(Refused, match="not a date format"):
        fields.trial(full, asked.model_copy(update={"style": "backwards"}))


def test_imports_and_edits_keep_values_as_the_type_says(full: Workspace, folder: Path) -> None:
    fields.set_type(full, models.FieldTrialIn(name="spent", type="number"), "t")
    assert found(full, "spent") == {1: "1.5", 2: "20", 3: "a lot"}
    more = put(folder, "m.csv", 'email,spent\nines@x.example,"2,25"\nmira@x.example,much\n')
    report = import_subscribers.run(full.store, more, NOW, "t")
    assert report.notes == ["Not numbers: 1 value of “spent”, kept as written."]
    assert found(full, "spent") == {1: "much", 2: "20", 3: "a lot", 4: "2.25"}
    with pytest.raises(Refused, match="is not a number for “spent”"):
        profile.edit(full, 2, {"fields": {"spent": "more"}}, "t")
    profile.edit(full, 3, {"fields": {"spent": "a lot", "town": "Saltmere"}}, "t")  # what was no number may stay
    profile.edit(full, 2, {"fields": {"spent": "7,5"}}, "t")
    assert found(full, "spent")[2] == "7.5"


def test_a_new_name_is_followed_by_all_that_uses_it(full: Workspace, folder: Path) -> None:
    segments.save(full, "Coast", 'field "town" is "Saltmere"', "t")
    html = "<p>{{ town or 'you' }} {% if matches('field \"town\" is \"Saltmere\"') %}near{% endif %} town</p>"
    with full.store.atomic() as db:
        row_id = campaigns.add(db, "Hello", 1, NOW)
        campaigns.update(db, row_id, {"html": html, "subject": "In {{ town }}"})
    more = import_subscribers.run(full.store, put(folder, "m.csv", "email,town\notto@x.example,Eastby\n"), NOW, "t")
    with pytest.raises(Refused, match="merge field of “Hello”"):
        fields.rename(full, models.FieldRename(name="town", to="Home town"), "t")
    with pytest.raises(Refused, match="already a field “spent”"):
        fields.rename(full, models.FieldRename(name="town", to="Spent"), "t")
    fields.rename(full, models.FieldRename(name="town", to="place"), "t")
    assert found(full, "place") == {1: "Saltmere", 2: "Eastby"} and not found(full, "town")
    assert full.count('in segment "Coast"')[0] == 1
    row = campaigns.one(full.store.read(), row_id)
    assert row is not None and row.subject == "In {{ place }}"
    assert "{{ place or 'you' }}" in row.html and 'field "place" is' in row.html and "town</p>" in row.html
    assert fields.every(full)[1].used_by == ["the segment “Coast”", "a part of “Hello”"]
    assert more.action
    undo.undo(full, more.action, "t")
    assert found(full, "place")[2] == "Northwick", "what an import changed before is restored under the new name"
    fields.rename(full, models.FieldRename(name="place", to="Place"), "t")
    assert found(full, "Place")[1] == "Saltmere" and "place" not in table.names(full.store.read())


def test_a_field_is_deleted_when_nothing_uses_it_and_comes_back(full: Workspace) -> None:
    segments.save(full, "Coast", 'field "town" is "Saltmere"', "t")
    with pytest.raises(Refused, match="used by the segment “Coast”"):
        fields.remove(full, "town", "t")
    fields.set_type(full, models.FieldTrialIn(name="spent", type="number"), "t")
    action = fields.remove(full, "spent", "t")
    fields_of = full.store.read().execute("SELECT fields FROM subscribers WHERE id = 1").fetchone()["fields"]
    assert "spent" not in json.loads(fields_of) and "spent" not in table.names(full.store.read())
    with pytest.raises(Missing):
        fields.remove(full, "spent", "t")
    assert undo.undo(full, action, "t") == "“spent” is there again; values restored: 3."
    assert found(full, "spent")[1] == "1.5" and table.types(full.store.read())["spent"] == "number"
    fields.add(full, models.FieldIn(name=" Seat  row ", type="number"), "t")
    assert table.types(full.store.read())["Seat row"] == "number"
    with pytest.raises(Refused, match="every import knows"):
        fields.add(full, models.FieldIn(name="Joined at"), "t")
