"""Acts on many people and their way back; erasing; imports taken back; sources; what the lists of machines decide."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from openmeadow.core.consent.sunset import SPARED
from openmeadow.core.errors import Missing, Refused, RuleMistake
from openmeadow.core.events import Kind
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.core.states import JobKind
from openmeadow.services import models
from openmeadow.services.segments import segments, starter_segments
from openmeadow.services.subscribers import (
    address_change,
    bulk_actions,
    erasure,
    export,
    import_events,
    import_subscribers,
    profile,
    score_model,
    sources,
    undo,
)
from openmeadow.services.subscribers.engagement_map import Replays
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.engagement import chance_models, events
from openmeadow.store.engagement.columns import all_people_of, load
from openmeadow.store.health import inbox_placement
from openmeadow.worker.jobs import run_next_job
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock

PEOPLE = """email,name,joined_at,list,labels,town,consent:Season news,consent_source:Season news
mira@lanternmail.example,Mira,2025-01-01,Foyer,patron,Saltmere,given,Foyer form
otto@lanternmail.example,Otto,2025-01-02,Foyer,,Saltmere,given,Foyer form
selma@postern.example,Selma,2025-02-01,Website,patron,,given,Website
ines@lanternmial.example,Ines,2025-03-01,Website,,,given,Website
info@tidewatch.example,Info,2025-03-01,Website,,,pending,Website
"""


def put(folder: Path, name: str, text: str) -> Path:
    path = folder / name
    path.write_text(text)
    return path


def log_of(*rows: tuple[int, str, str, str]) -> str:
    lines = [
        f"{rfc3339(NOW - ago)},{event},{email},{message},Reader/1,198.51.100.7" for ago, event, email, message in rows
    ]
    return "at,event,email,message,agent,ip\n" + "\n".join(lines) + "\n"


HISTORY = log_of(
    *(
        (ago * DAY, "sent", who, f"News {ago}")
        for who in ("mira@lanternmail.example", "selma@postern.example")
        for ago in (40, 30, 20, 10)
    ),
    (29 * DAY, "opened", "mira@lanternmail.example", "News 30"),
    (9 * DAY, "clicked", "selma@postern.example", "News 10"),
    (20 * DAY - 60, "bounced", "selma@postern.example", "News 20"),
)


@pytest.fixture
def full(workspace: Workspace, folder: Path) -> Workspace:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    import_events.run(workspace.store, put(folder, "e.csv", HISTORY), NOW, "t")
    return workspace


def state(workspace: Workspace) -> object:
    """Everything an undo must restore."""
    db = workspace.store.read()
    tables = (
        "subscribers",
        "list_members",
        "subscriber_labels",
        "suppressions",
        "consent_entries WHERE NOT void",
        "events",
    )
    return {t: [tuple(r) for r in db.execute(f"SELECT * FROM {t} ORDER BY 1, 2")] for t in tables}


def test_a_log_taken_back_leaves_nothing_expected(workspace: Workspace, folder: Path) -> None:
    """Of mailings that are gone no level is told, and none lies in the spam folder."""
    people = "email,joined_at\n" + "".join(f"p{i}@postern.example,2025-01-01\n" for i in range(40))
    import_subscribers.run(workspace.store, put(folder, "q.csv", people), NOW, "t")
    sent = log_of(*((d * DAY, "sent", f"p{i}@postern.example", f"Letter {d}") for d in (30, 20, 10) for i in range(40)))
    import_events.run(workspace.store, put(folder, "l.csv", sent), NOW, "t")
    score_model.tend(workspace)
    db = workspace.store.read()
    assert len(chance_models.mailings(db)) == 3 and inbox_placement.since(db, 0)
    undo.undo(workspace, settings.activity(db, 1)[0].id, "t")
    assert chance_models.mailings(db) == [] and inbox_placement.since(db, 0) == []
    score_model.tend(workspace)
    assert workspace.view().scores.n.sum() == 0


def test_stopping_mail_leaves_out_whom_nobody_can_judge(full: Workspace) -> None:
    """Newcomers, those whose reading is hidden and who booked, each with its number, unless they are ticked in."""
    selma = profile.find(full, "selma@postern.example")
    with full.store.atomic() as db:
        events.add(db, [(NOW - 10 * DAY, int(Kind.BOOKED), selma, 0, 0, 0, 40.0, None, None, "b")])
    said = bulk_actions.preview(full, "suppress", "quiet", Choice())
    assert (said.people, {s.group: s.people for s in said.spared}) == (1, {"Unproven": 3, "booked": 1})
    assert bulk_actions.preview(full, "suppress", "quiet", Choice(also=("booked",))).people == 2
    assert bulk_actions.preview(full, "label", "x", Choice()).spared == []
    assert bulk_actions.start(full, "suppress", "quiet", Choice(), "t").people == 1


@pytest.mark.parametrize(
    ("act", "argument", "rule", "people", "changes", "then"),
    [
        ("label", "patron", "", 5, 3, 'has label "patron"'),
        ("unlabel", "Patron", "", 5, 2, 'not (has label "patron")'),
        ("list", "Gala", 'in list "Foyer"', 2, 2, 'in list "Gala"'),
        ("unlist", "Website", 'in list "Website"', 3, 3, 'not (in list "Website")'),
        ("suppress", "no answer in years", 'in list "Website"', 3, 3, "suppressed"),
    ],
)
def test_an_act_says_its_numbers_does_them_and_goes_back(
    full: Workspace, act: str, argument: str, rule: str, people: int, changes: int, then: str
) -> None:
    before, choice = state(full), Choice(rule=rule, also=SPARED)
    said = bulk_actions.preview(full, act, argument, choice)
    assert (said.people, said.changes) == (people, changes)
    done = bulk_actions.start(full, act, argument, choice, "t")
    assert done.people == changes and full.count(then)[0] == (5 if act == "unlist" else people)
    assert bulk_actions.start(full, act, argument, choice, "t").people == 0, "the second time changes nothing"
    undo.undo(full, done.action, "t")
    assert state(full) == before
    with pytest.raises(Refused, match="This was already undone"):
        undo.undo(full, done.action, "t")


def test_marks_choose_exactly(full: Workspace) -> None:
    assert bulk_actions.preview(full, "label", "x", Choice(ids=(1, 3, 99))).people == 2
    assert bulk_actions.preview(full, "label", "x", Choice(text="lanternm", without=(1,))).people == 2
    assert bulk_actions.preview(full, "label", "x", Choice(text="LANTERN mira")).people == 1, "words in any order"
    assert bulk_actions.preview(full, "label", "x", Choice(bands=("Unproven",), rule='in list "Foyer"')).people == 1
    with pytest.raises(RuleMistake, match="nearest is “Foyer”"):
        bulk_actions.preview(full, "label", "x", Choice(rule='in list "Foier"'))


def test_a_large_act_is_a_job(full: Workspace) -> None:
    started = bulk_actions.start(full, "label", "many", Choice(), "t", large=2)
    assert started.job and not started.action and full.count("never engaged")[0] == 3
    worker = Worker(full)
    worker.tick()
    job = settings.job(full.store.read(), started.job)
    assert job and job.state == "finished" and full.count('has label "many"')[0] == 5
    undo.undo(full, json.loads(job.outcome)["action"], "t")
    assert full.count('has label "many"')[0] == 0
    worker.close()


def test_addresses_get_verdicts(full: Workspace) -> None:
    with full.store.atomic() as db:
        db.executemany(
            "INSERT INTO subscribers (email, email_key, joined_at) VALUES (?1, ?1, 0)",
            [(f"p{i}@lanternmail.example",) for i in range(25)],
        )
    bulk_actions.start(full, "check", "", Choice(rule='in list "Website" or in list "Foyer"'), "t")
    assert full.count("address is deliverable")[0] == 3
    assert full.count("address is risky")[0] == 2 and full.count("address is unknown or not checked")[0] == 25
    verdict = profile.page(full, 4).verdict
    assert verdict.suggestion == "ines@lanternmail.example" and "typo of lanternmail.example" in verdict.reasons[0]


def test_whole_imports_are_taken_back(workspace: Workspace, folder: Path) -> None:
    path = put(folder, "p.csv", PEOPLE)
    first = import_subscribers.run(workspace.store, path, NOW, "t")
    import_events.run(workspace.store, put(folder, "e.csv", HISTORY), NOW, "t")
    before = state(workspace)
    counts = workspace.band_counts(workspace.view())
    more = (
        PEOPLE.replace("Otto,2025-01-02", "Otto Quill,2024-05-01").replace("Saltmere", "Quaymouth")
        + "new@x.example,New,,,,,,\n"
    )
    second = import_subscribers.run(workspace.store, put(folder, "p2.csv", more), NOW, "t")
    log = log_of(
        (5 * DAY, "sent", "mira@lanternmail.example", "Late"), (DAY, "complained", "mira@lanternmail.example", "Late")
    )
    third = import_events.run(workspace.store, put(folder, "e2.csv", log), NOW, "t")
    assert workspace.count("suppressed")[0] == 1 and workspace.count('field "town" is "Quaymouth"')[0] == 2
    assert workspace.count('received at least 1 of "Late"')[0] == 1
    for report in (third, second):
        assert report.action
        undo.undo(workspace, report.action, "t")
    assert state(workspace) == before and workspace.band_counts(workspace.view()) == counts
    fresh, _ = load(workspace.store.read(), all_people_of(workspace.store.read()).people, workspace.machines())
    assert (workspace.view().columns.rows.first_at == fresh.rows.first_at).all()
    assert first.action
    sentence = undo.undo(workspace, first.action, "t")
    assert "3 subscribers removed" in sentence and "2 kept" in sentence, "things have happened to two of them"


def test_an_erased_person_stays_erased(full: Workspace, folder: Path) -> None:
    profile.note(full, 1, "called about her seat", "t")
    delivered = full.count("received at least 1")[0]
    erasure.erase(full, 1, "t")
    dump = "\n".join(full.store.read().execute("SELECT * FROM subscribers").connection.iterdump())
    assert "mira" not in dump.lower() and "198.51.100.7" in dump, "the other reader's address stays"
    assert (
        full.count("received at least 1")[0] == delivered - 1 and full.view().columns.rows.person.tolist().count(0) == 4
    )
    report = import_subscribers.run(full.store, put(folder, "again.csv", PEOPLE.replace("mira@", "MIRA@")), NOW, "t")
    assert [r.reason for r in report.refused] == ["this address was erased on request and is not imported"]
    with pytest.raises(Missing, match="was erased"):
        profile.page(full, 1)
    with pytest.raises(Refused, match="This subscriber is already erased"):
        erasure.erase(full, 1, "t")


def test_a_person_is_edited_noted_and_exported(full: Workspace) -> None:
    before = state(full)
    action = profile.edit(
        full, 1, {"name": "Mira H.", "labels": ["friend"], "fields": {"seat": "B4"}, "language": "en"}, "t"
    )
    page = profile.page(full, 1)
    assert (page.name, page.labels, page.fields, page.language) == ("Mira H.", ["friend"], {"seat": "B4"}, "en")
    undo.undo(full, action, "t")
    assert state(full) == before
    with pytest.raises(Refused, match="Europe/Lisbon"):
        profile.edit(full, 1, {"time_zone": "Mars"}, "t")
    note = profile.note(full, 1, " likes the organ ", "t")
    whole = profile.everything(full, 1, "mira")
    assert [(a.who, a.what) for a in settings.activity(full.store.read(), 1)] == [("mira", "subscriber 1")]
    assert whole.notes[0].text == "likes the organ" and len(whole.events) == 5
    assert whole.model_dump_json() and whole.consent[0].source == "Foyer form"
    profile.drop_note(full, 1, note)
    with pytest.raises(Missing, match="This note does not exist"):
        profile.drop_note(full, 1, note)


def test_a_bad_door_shows(workspace: Workspace, folder: Path) -> None:
    rows = "".join(f"p{i}@x.example,2025-01-01,{'Paper' if i < 40 else 'Web'}\n" for i in range(400))
    import_subscribers.run(workspace.store, put(folder, "d.csv", "email,joined_at,list\n" + rows), NOW, "t")
    log = [(9 * DAY, "sent", f"p{i}@x.example", "News") for i in range(400)]
    text = log_of(*log, *((9 * DAY - 5, "opened", f"p{i}@x.example", "News") for i in range(100, 200)))
    text += "".join(f"{rfc3339(NOW - 8 * DAY)},bounced,p{i}@x.example,News,,\n" for i in range(0, 40, 2)).replace(
        ",,\n", ",,,550 5.1.1\n"
    )
    text = text.replace("message,agent,ip", "message,agent,ip,code")
    import_events.run(workspace.store, put(folder, "d.ndlog", text), NOW, "t")
    found = {d.name: d for d in sources.every(workspace) if d.kind == "source"}
    assert (found["Paper"].people, found["Paper"].mailed, found["Paper"].bounced) == (40, 40, 20)
    assert found["Paper"].signs == ["Higher hard-bounce rate than other sources: 50.0% of 40, others 0.0% of 360."]
    assert not found["Web"].signs and found["Web"].engaged == 100
    assert workspace.count(found["Paper"].rule)[0] == 40
    assert [d.people for d in sources.every(workspace) if d.kind == "import"] == [400]


def test_a_changed_list_of_machines_reads_history_again(full: Workspace, folder: Path) -> None:
    assert full.count("opened at least 1")[0] == 2
    (folder / "machines.json").write_text('{"agents": ["reader/1"]}')
    assert full.count("opened at least 1")[0] == 0 and full.count("opened by anyone at least 1")[0] == 2
    told = sources.machine_opens(full)
    (other,) = told.providers
    assert (other.opens.all, other.opens.machines, other.opens.unsure) == (1, 1, 0)
    assert [r.opens + r.clicks for r in told.reasons] == [0, 0, 2, 0, 0, 0]
    assert profile.page(full, 1).events[2].because == "its agent or network is on the list"
    (folder / "machines.json").write_text("{")
    with pytest.raises(Exception, match="The list of machines cannot be read:"):
        full.view()


def test_exports_are_kept_recorded_and_removed(full: Workspace) -> None:
    worker = Worker(full)
    with full.store.atomic() as db:
        choice, columns = models.JobChoice(rule='in list "Foyer"'), ["email", "labels", "field:town"]
        asked = models.ExportJob(choice=choice, columns=columns, form="csv", name="F")
        job = settings.add_job(db, JobKind.EXPORT, asked.model_dump_json(), "t", NOW)
    worker.tick()
    file = full.folder / export.FOLDER / f"{job}.csv"
    assert file.read_text().splitlines() == [
        "email,labels,field:town",
        "mira@lanternmail.example,patron,Saltmere",
        "otto@lanternmail.example,,Saltmere",
    ]
    assert "exported" in [a.act for a in settings.activity(full.store.read())]
    assert export.clean_up(full) == 0
    with full.store.atomic() as db:
        settings.set_setting(db, "exports_kept_days", -1)
    assert export.clean_up(full) == 1 and not file.exists()
    with pytest.raises(Refused, match="no column “shoe”"):
        export.write(full, Choice(), ("shoe",), file)
    worker.close()


def test_segments_grow_freeze_overlap_and_stand_ready(full: Workspace) -> None:
    made = starter_segments.make(full)
    assert made == 9 and starter_segments.make(full) == 0, "once"
    assert {s.name for s in segments.every(full)} >= {"Engaged", "Masked", "Permitted for Season news"}
    assert all(s.count is not None for s in segments.every(full))
    id = segments.save(full, "Readers", "opened at least 1 in 100 days", "t").id
    frozen = segments.take_snapshot(full, id, "t")
    assert frozen.count == 2
    set_clock(full, NOW + 200 * DAY)
    assert full.count('in segment "Readers"')[0] == 0
    assert full.count('in segment "Readers" as frozen on 2026-03-12')[0] == 2
    with pytest.raises(RuleMistake, match="has no snapshot of 2026-03-13"):
        full.count('in segment "Readers" as frozen on 2026-03-13')
    with full.store.atomic() as db:  # where it was Wednesday still
        settings.set_setting(db, "time_zone", "Pacific/Pago_Pago")
    assert segments.about(full, id).snapshots[0].day == "2026-03-11"
    assert full.count('in segment "Readers" as frozen on 2026-03-11')[0] == 2
    with full.store.atomic() as db:
        settings.set_setting(db, "time_zone", "UTC")
    about = segments.about(full, id)
    assert [p.count for p in about.growth][-1] == 0 and 2 in [p.count for p in about.growth]
    assert about == segments.about(full, id).model_copy(update={"seconds": about.seconds}), "past moments are kept"
    over = segments.overlap(full, "never engaged", [id])
    assert (over[0].name, over[0].both, over[0].only_this, over[0].only_that) == ("Readers", 0, 3, 0)
    with pytest.raises(Refused, match="up to four"):
        segments.overlap(full, "never engaged", [1, 2, 3, 4, 5])
    segments.delete_snapshot(full, id, frozen.id, "t")
    with pytest.raises(RuleMistake, match="has no snapshot yet"):
        full.count('in segment "Readers" as frozen on 2026-03-12')


def test_a_past_view_from_the_present_columns_is_the_same(full: Workspace) -> None:
    """The quick way back in time equals the careful one where no later pass changed an earlier outcome."""
    for ago in (5, 15, 25, 35):
        near, far = full.view(NOW - ago * DAY, nearly=True), full.view(NOW - ago * DAY)
        assert near.scores.band.tolist() == far.scores.band.tolist()
        assert pytest.approx(far.scores.chance) == near.scores.chance


def test_replays_are_kept_while_nothing_changes(full: Workspace) -> None:
    replays = Replays(full)
    found = replays.of(12)
    assert found.messages == 8 and replays.of(12) is found
    assert sum(found.sums.opens[1::2]) == 2 and sum(found.sums.clicks[1::2]) == 1
    assert replays.of(1).messages == 6


def test_the_worker_keeps_house_and_serves_alone(full: Workspace) -> None:
    worker = Worker(full)
    with pytest.raises(Refused, match="Another worker is already running for this"):
        Worker(full)
    worker.tick()
    assert "Engaged" in {s.name for s in segments.every(full)}, "ready-made segments stand in a new workspace"
    with full.store.atomic() as db:
        asked = models.ActionJob(act="dance", argument="", choice=models.JobChoice())
        settings.add_job(db, JobKind.ACT, asked.model_dump_json(), "t", NOW)
    worker.tick()
    worker.tick()
    told = [json.loads(j["outcome"])["error"] for j in full.store.read().execute("SELECT outcome FROM jobs ORDER BY id")]
    assert "is not an act" in told[0], "no failure stops the worker, none is silent"
    worker.close()
    Worker(full).close()


@pytest.mark.parametrize(
    ("cell", "written"),
    [("=1+1", "'=1+1"), ("\n=1+1", "'\n=1+1"), (" +1", "' +1"), ("@x", "'@x"), ("\tx", "'\tx"), ("a=1", "a=1"), ("", "")],
)
def test_a_cell_that_a_spreadsheet_would_run_is_text(cell: str, written: str) -> None:
    assert export.safe(cell) == written


def test_a_large_undo_is_a_job_and_goes_on_where_it_was_cut_off(full: Workspace, folder: Path) -> None:
    action, n = bulk_actions.do(full, "label", "Seen", Choice(), "t")
    left = undo.start(full, action, "t", large=1)
    assert n > 1 and left.job and "Jobs" in left.sentence
    with full.store.atomic() as db:  # as if it had been cut off after the first part
        keys = undo_log.made_rows(db, "subscriber_labels", action)
        assert undo_log.take_back(db, "subscriber_labels", keys[:1], action) == 1
    while run_next_job(full):
        pass
    (outcome,) = full.store.read().execute("SELECT state, outcome FROM jobs ORDER BY id DESC LIMIT 1").fetchall()
    assert outcome["state"] == "finished" and json.loads(outcome["outcome"])["sentence"] == f"{n - 1} entries removed."
    assert not undo_log.made_rows(full.store.read(), "subscriber_labels", action)
    with pytest.raises(Refused, match="already undone"):
        undo.start(full, action, "t")


def test_the_analyst_corrects_an_address(full: Workspace) -> None:
    before, mira = state(full), profile.find(full, "mira@lanternmail.example")
    there = profile.page(full, mira).email
    for email, words in (
        ("nobody", "is not a valid address"),
        ("SELMA@postern.example", "is another subscriber already"),
        (f" {there}", "This is their address already"),
    ):
        with pytest.raises(Refused, match=words):
            address_change.correct(full, mira, email, "ann")
    action = address_change.correct(full, mira, "mira@harrow.example", "ann")
    page = profile.page(full, mira)
    assert (page.email, page.verdict) == ("mira@harrow.example", None), "the verdict belonged to the old address"
    assert [j.kind for j in settings.latest_jobs(full.store.read(), 1)] == ["addresses"]
    undo.undo(full, action, "ann")
    assert state(full) == before and profile.page(full, mira).email == there
