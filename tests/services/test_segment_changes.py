"""A saved segment is renamed, changed by two people, labelled and watched."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.errors import Refused, RuleMistake
from openmeadow.core.ids import SegmentId
from openmeadow.core.sequences.definition import Begin, Definition
from openmeadow.services import models
from openmeadow.services.campaigns import campaigns, message_conditions
from openmeadow.services.segments import sampling, segments
from openmeadow.services.sequences import editing
from openmeadow.services.sequences.loading import definition_of
from openmeadow.services.subscribers import import_subscribers, undo
from openmeadow.services.today import overview
from openmeadow.services.workspace import Workspace
from openmeadow.store.sequences import sequences
from tests.conftest import NOW
from tests.services.test_bring_in import PEOPLE, put


@pytest.fixture
def saved(workspace: Workspace, folder: Path) -> SegmentId:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    return SegmentId(segments.save(workspace, "Readers", 'in list "foyer"', "ann", "Weekly").id)


def given(workspace: Workspace, row_id: int, **other: object) -> models.SegmentChange:
    s = next(s for s in segments.every(workspace) if s.id == row_id)
    values = {"name": s.name, "rule": s.rule, "label": s.label, "changed_at": s.changed_at}
    return models.SegmentChange.model_validate(values | other)


def test_a_new_name_is_followed_by_all_that_names_it(workspace: Workspace, saved: SegmentId) -> None:
    segments.save(workspace, "Both", 'in segment "readers" and not (field "town" is "Readers")', "ann")
    campaign = campaigns.add(workspace, "News", "ann")
    campaigns.write(workspace, campaign, {"html": "{% if matches('in segment \"Readers\"') %}x{% endif %}"})
    sequence = editing.add(workspace, "Welcome", "ann", Definition(begin=Begin(on="enters a segment", what="Readers")))
    segments.change(workspace, saved, given(workspace, saved, name='Foyer "A"'), "ann")
    both = next(s for s in segments.every(workspace) if s.name == "Both")
    assert both.rule == 'in segment "Foyer ""A""" and not (field "town" is "Readers")' and both.problem == ""
    assert "Foyer" in campaigns.row_of(workspace, campaign).html
    row = sequences.one(workspace.store.read(), sequence)
    assert row is not None and definition_of(row).begin.what == 'Foyer "A"'
    assert [s.label for s in segments.every(workspace)] == ["", "Weekly"]


def test_the_later_of_two_people_is_told(workspace: Workspace, saved: SegmentId) -> None:
    mine, theirs = given(workspace, saved, rule="rejoined"), given(workspace, saved, label="Monthly")
    segments.change(workspace, saved, theirs, "ben")
    with pytest.raises(Refused, match="“Readers” was changed by another person meanwhile"):
        segments.change(workspace, saved, mine, "ann")
    assert given(workspace, saved).rule == 'in list "foyer"' and given(workspace, saved).label == "Monthly"
    segments.save(workspace, "Others", "rejoined", "ann")
    with pytest.raises(Refused, match="There is already a segment called “Others”"):
        segments.change(workspace, saved, given(workspace, saved, name="others"), "ann")
    with pytest.raises(Refused, match="needs a name"):
        segments.change(workspace, saved, given(workspace, saved, name=" "), "ann")


def test_a_watched_segment_says_when_it_has_changed(workspace: Workspace, folder: Path, saved: SegmentId) -> None:
    def said() -> list[str]:
        return [d.title for d in overview.decisions(workspace, workspace.view()) if d.kind == "Segment"]

    segments.watch(workspace, saved, 0.5, "ann")
    more = "".join(f"n{i}@x.example,Foyer\n" for i in range(2))
    import_subscribers.run(workspace.store, put(folder, "a.csv", "email,list\nn0@x.example,Foyer\n"), NOW, "t")
    assert said() == [], "one of two is no more than half"
    import_subscribers.run(workspace.store, put(folder, "b.csv", "email,list\n" + more), NOW, "t")
    assert said() == ["“Readers” went from 2 to 4 (+100%)."]
    segments.watch(workspace, saved, 0.5, "ann")
    assert said() == [], "watched from what it is now"
    segments.watch(workspace, saved, None, "ann")


def test_a_random_sample_is_a_list_of_its_own_and_undone(workspace: Workspace, folder: Path) -> None:
    rows = "".join(f"s{i}@x.example,All\n" for i in range(400))
    import_subscribers.run(workspace.store, put(folder, "m.csv", f"email,list\n{rows}"), NOW, "t")
    row_id = segments.save(workspace, "Everyone", 'in list "All"', "ann").id
    drawn = []
    for name in ("First", "Second"):
        done = sampling.sample(workspace, row_id, models.SampleIn(people=100, list=f" {name} "), "ann")
        drawn.append(set(np.flatnonzero(workspace.view().facts.in_list(name)).tolist()))
        assert done.people == len(drawn[-1]) == 100
    assert 5 < len(drawn[0] & drawn[1]) < 60, "each is drawn anew"
    halves = [len([p for p in some if p < 200]) for some in drawn]
    assert all(25 < n < 75 for n in halves), "from all of the segment"
    undo.undo(workspace, done.action, "ann")
    assert workspace.count('in list "Second"')[0] == 0
    for people, name, words in ((401, "More", "has 400 subscribers"), (9, "FIRST", "already a list"), (9, " ", "a name")):
        with pytest.raises(Refused, match=words):
            sampling.sample(workspace, row_id, models.SampleIn(people=people, list=name), "ann")


def test_a_conditional_part_is_counted_among_the_recipients(workspace: Workspace, saved: SegmentId) -> None:
    campaign = campaigns.add(workspace, "News", "ann")
    campaigns.write(workspace, campaign, {"segments_in": [saved]})
    row = campaigns.row_of(workspace, campaign)
    assert message_conditions.shown_to(workspace, row, 'field "town" is "Saltmere"') == models.ShownTo(
        people=1, recipients=2
    )
    with pytest.raises(RuleMistake):
        message_conditions.shown_to(workspace, row, "field is")
