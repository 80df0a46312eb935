"""Bringing in: dry runs write nothing, repeats change nothing, refused rows never stop the rest."""

from __future__ import annotations

import json
import os
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.errors import MeadowError, Missing, Refused, RuleMistake
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import import_events, import_subscribers, profile
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import columns_cache
from openmeadow.store.engagement.columns import all_people_of, load, troubles
from tests.conftest import NOW, empty_into, set_clock

PEOPLE = '''\ufeffemail;name;joined_at;list;labels;consent:Season news;consent_source:Season news;town
Mira@lanternmail.example;Mira;2025-01-01;Foyer;patron;given;Foyer form;Saltmere
otto@postern.example;Otto;2025-02-01;Foyer;;given;;Northwick
nobody;X;2025-02-01;;;;;
ines@brinebox.example;Ines;soon;;;;;
selma@x.example;"Selma ""Q""";2025-03-01;Box office;;pending;Website;
'''
LOG = """at,event,email,message,agent,ip,url,code,value,id
2026-03-01T10:00:00Z,sent,mira@lanternmail.example,News 1,,,,,,
2026-03-01T11:00:00Z,opened,mira@lanternmail.example,News 1,Reader,198.51.100.1,,,,
2026-03-01T10:00:00Z,sent,otto@postern.example,News 1,,,,,,
2026-03-01T10:00:09Z,bounced,otto@postern.example,News 1,,,,5.1.1,,
2026-03-01T10:00:00Z,sent,late@x.example,News 1,,,,,,
2026-03-05T10:00:00Z,booked,selma@x.example,,,,,,60,b-1
2026-03-05T10:00:01Z,booked,selma@x.example,,,,,,60,b-1
never,sent,selma@x.example,News 1,,,,,,
"""


def put(folder: Path, name: str, text: str | bytes) -> Path:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def counts(workspace: Workspace) -> list[int]:
    tables = ("subscribers", "lists", "labels", "consent_entries", "events", "events_aside", "suppressions", "messages")
    return [workspace.store.read().execute(f"SELECT count(*) FROM {t}").fetchone()[0] for t in tables]


def test_subscribers_and_history(workspace: Workspace, folder: Path) -> None:
    csv, log = put(folder, "p.csv", PEOPLE), put(folder, "e.csv", LOG)
    dry = import_subscribers.run(workspace.store, csv, NOW, "t", dry_run=True)
    assert (dry.rows, dry.taken, dry.refused_count) == (5, 3, 2) and counts(workspace)[0] == 0
    report = import_subscribers.run(workspace.store, csv, NOW, "t", refused_to=folder / "refused.csv")
    assert [(r.line, r.column) for r in report.refused] == [(4, "email"), (5, "joined_at")]
    assert (folder / "refused.csv").read_text().splitlines()[1].startswith("nobody,X,2025-02-01")
    assert any("has no source in some rows" in n for n in report.notes), "said plainly"
    assert any("Foyer" in n for n in report.notes)
    dry = import_events.run(workspace.store, log, NOW, "t", dry_run=True)
    assert (dry.taken, dry.aside, dry.refused_count) == (6, 1, 1) and counts(workspace)[4] == 0
    report = import_events.run(workspace.store, log, NOW, "t")
    assert (report.taken, report.repeated, report.aside, report.refused_count) == (5, 1, 1, 1)
    assert report.aside_shown == ["late@x.example"] and not report.clean
    before = counts(workspace)
    assert import_subscribers.run(workspace.store, csv, NOW + 9, "t").taken == 0
    assert import_events.run(workspace.store, log, NOW + 9, "t").taken == 0
    assert counts(workspace) == before, "the same files twice change nothing"
    put(folder, "late.csv", "email\nLate@x.example\n")
    import_subscribers.run(workspace.store, folder / "late.csv", NOW, "t")
    assert counts(workspace)[4:6] == [6, 0], "events kept aside are taken when their person comes"

    mira = profile.page(workspace, profile.find(workspace, "mira@LANTERNMAIL.example"))
    assert (mira.email, mira.trace, mira.lists, mira.labels) == ("Mira@lanternmail.example", "o", ["Foyer"], ["patron"])
    assert mira.why.engaged == 1 and mira.events[0].who == "person"
    assert [p.model_dump() for p in mira.permission] == [{"purpose": "Season news", "permitted": True, "reasons": []}]
    otto = profile.page(workspace, profile.find(workspace, "otto@postern.example"))
    assert otto.permission[0].reasons == ["suppressed", "no consent"] and otto.trace == "b"
    assert otto.suppressed[0].reason == "hard bounce"
    with pytest.raises(Missing, match="no subscriber with the address x@y"):
        profile.find(workspace, "x@y")


def test_merging_keeps_what_is_there(workspace: Workspace, folder: Path) -> None:
    import_subscribers.run(workspace.store, put(folder, "a.csv", PEOPLE), NOW, "t")
    update = (
        "email,name,joined_at,town,age,consent:Season news,consent_at:Season news\n"
        "MIRA@lanternmail.example,,2025-06-01,Quaymouth,40,withdrawn,2025-05-01\n"
    )
    assert import_subscribers.run(workspace.store, put(folder, "b.csv", update), NOW, "t").taken == 1
    mira = profile.page(workspace, profile.find(workspace, "mira@lanternmail.example"))
    assert (mira.name, mira.fields, mira.joined_at) == ("Mira", {"town": "Quaymouth", "age": "40"}, 1_735_689_600), (
        "an empty cell clears nothing, nobody gets younger"
    )
    older = update.replace("withdrawn,2025-05-01", "given,2025-04-01").replace(
        "consent_at", "consent_source:Season news,consent_at", 1
    )
    older = older.replace("given,", "given,form,")
    import_subscribers.run(workspace.store, put(folder, "c.csv", older), NOW, "t")
    assert not profile.page(workspace, mira.id).permission[0].permitted, "an older yes does not undo a no"


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("empty.csv", b"", "is empty"),
        ("bin.csv", b"\0\1\2\n", "not a text file"),
        ("no.csv", b"name\nx\n", "No column has the addresses"),
        ("missing.csv", None, "cannot be opened"),
    ],
)
def test_files_that_are_none(workspace: Workspace, folder: Path, name: str, content: bytes | None, words: str) -> None:
    path = folder / name if content is None else put(folder, name, content)
    with pytest.raises(MeadowError, match=words):
        import_subscribers.run(workspace.store, path, NOW, "t")


def test_hostile_rows_cost_themselves_alone(workspace: Workspace, folder: Path) -> None:
    big = b"a@x.example," + b"y" * 70_000 + b"\nb@x.example,\xff\xfe\n\nc@x.example,fine,too many\nd@x.example,fine\n"
    path = put(folder, "h.csv", b"email,name\n" + big + b'e@x.example,"' + b"z" * 1_100_000 + b'"\nf@x.example,after\n')
    report = import_subscribers.run(workspace.store, path, NOW, "t")
    assert report.refused_count == 4 and {"is over 64 kB", "be decoded"} <= {
        r.reason.split("cell ")[-1].replace("cannot ", "").removesuffix(" as UTF-8") for r in report.refused
    }
    assert report.taken == 2
    ndjson = b'{"at":"2026-03-01T10:00:00Z","event":"booked","email":"d@x.example","value":12.5,"id":7}\n[1]\n{bad\n'
    report = import_events.run(workspace.store, put(folder, "h.ndjson", ndjson), NOW, "t")
    assert (report.taken, report.refused_count) == (1, 2)


@given(
    st.lists(
        st.tuples(
            st.integers(0, 6), st.sampled_from(["", "Mira", "Otto"]), st.sampled_from(["", "yes", "no", "withdrawn"])
        ),
        max_size=14,
    ),
    st.integers(0, 5),
)
def test_a_trial_says_what_the_run_then_does(rows: list[tuple[int, str, str]], there: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        empty_into(folder)
        workspace = Workspace(folder)
        before = "".join(f"p{i}@x.example,Mira,yes\n" for i in range(there))
        head = "email,name,consent:News\n"
        import_subscribers.run(workspace.store, put(folder, "a.csv", head + before), NOW, "t", source="form")
        path = put(folder, "b.csv", head + "".join(f"p{i}@x.example,{n},{c}\n" for i, n, c in rows))
        trial, run = (
            import_subscribers.run(workspace.store, path, NOW + 9, "t", source="form", dry_run=dry)
            for dry in (True, False)
        )
        for part in ("rows", "people", "permitted", "refused_count", "typos"):
            assert getattr(trial, part) == getattr(run, part), part
        assert len({r[0] for r in rows}) == trial.people
        workspace.close()


def test_what_a_trial_finds_before_anything_is_in(workspace: Workspace, folder: Path) -> None:
    known = "".join(f"p{i}@lanternmail.example,yes\n" for i in range(40))
    import_subscribers.run(workspace.store, put(folder, "a.csv", "email,consent:News\n" + known), NOW, "t", source="form")
    text = "E-Mail-Adresse,News\nq1@lanternmial.example,ja\nq2@lanternmail.example,Abo\nq3@burnbox.example,ja\n"
    path = put(folder, "b.csv", text)
    how = {"corrections": {"News": "consent:News"}, "values": {"News": {"Abo": "given"}}, "wording": "Letters"}
    for dry, source, may in ((True, None, 0), (True, "fair", 3), (False, "fair", 3)):
        found = import_subscribers.run(workspace.store, path, NOW, "t", dry_run=dry, source=source, **how)
        assert (found.taken, found.people, found.permitted["News"]) == (3, 3, may)
        assert (found.typos, found.disposable) == (1, 1) and "1 at lanternmial.example (of lanternmail.example)" in str(
            found.notes
        )
    again = import_subscribers.run(workspace.store, path, NOW, "t", dry_run=True, source="fair", **how)
    assert (again.taken, again.repeated) == (0, 3), "who is there and changes nothing is not new"


def test_columns_follow_and_the_mirror_is_checked(workspace: Workspace, folder: Path) -> None:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    assert workspace.count("never engaged")[0] == 3
    import_events.run(workspace.store, put(folder, "e.csv", LOG), NOW, "t")
    assert workspace.count("never engaged")[0] == 1
    assert workspace.count("never engaged", as_of=NOW - 9 * DAY)[0] == 2, "as it stood then"
    set_clock(workspace, NOW + 200 * DAY)
    assert workspace.count("last engaged more than 150 days ago")[0] == 2, "rules never have to be re-dated"
    db, mark = workspace.store.read(), workspace.machines().mark
    everybody = all_people_of(db)
    whole, seen = load(db, everybody.people, workspace.machines())
    wrong = troubles(db, everybody.people)
    columns_cache.save(folder, db, columns_cache.Mirror(whole, Streams(whole), wrong, seen, everybody), mark)
    found = columns_cache.load(folder, db, mark)
    assert found and found.seen == seen and np.array_equal(found.columns.rows.first_at, whole.rows.first_at)
    assert found.everybody.version == everybody.version and (found.streams.made["opened"].at == NOW).sum() == 0
    assert found.columns.rows.message.dtype == np.int16 and np.array_equal(found.columns.rows.message, whole.rows.message)
    assert found and np.array_equal(found.troubles.what, wrong.what) and len(wrong)
    assert columns_cache.load(folder, db, "another list of machines") is None
    at, before = folder / "columns" / "acts.at.npy", (folder / "columns" / "acts.at.npy").stat()
    sound = at.read_bytes()
    at.write_bytes(sound[:-1] + bytes([sound[-1] ^ 1]))
    os.utime(at, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert columns_cache.load(folder, db, mark) is None, "a file damaged since it was found sound is noticed"
    at.write_bytes(sound)
    assert columns_cache.load(folder, db, mark)
    (folder / "columns" / "whole.json").write_text(json.dumps({"seen": seen, "mark": [1]}))
    assert columns_cache.load(folder, db, mark) is None, "a mirror of another database is not believed"


def test_segments_are_kept_used_and_exported(workspace: Workspace, folder: Path) -> None:
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE.replace("Selma ", "=Selma")), NOW, "t")
    assert segments.save(workspace, "Readers", 'in list "foyer"', "t").count == 2
    segments.save(workspace, "Both", 'in segment "Readers" and has label "patron"', "t")
    with pytest.raises(RuleMistake, match="Readers → Both → Readers"):
        segments.save(workspace, "Readers", 'in segment "Both"', "t")
    with pytest.raises(RuleMistake, match="no list “Foyr”; the nearest is “Foyer”") as caught:
        workspace.count('never engaged and in list "Foyr"')
    assert caught.value.place == 18
    with pytest.raises(Refused, match="used by the segment “Both”"):
        segments.remove(workspace, 1, "t")
    assert segments.export(workspace, 'in list "Box office"', folder / "out.csv") == 1
    assert "'=Selma" in (folder / "out.csv").read_text(), "a spreadsheet runs nothing"
    assert segments.export(workspace, "both", folder / "out.ndjson") == 1
    assert json.loads((folder / "out.ndjson").read_text())["band"] == "Unproven"
    assert [s.count for s in segments.every(workspace)] == [1, 2]
