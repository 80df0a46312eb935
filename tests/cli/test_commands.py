"""The command line as scripts use it: exit status, one JSON document, sentences on standard error."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import pytest

from openmeadow.cli.main import COMMANDS, HIDDEN
from tests.core.slow import chance
from tests.processes import meadow


def test_a_script_s_day(bare: Path, tmp_path: Path) -> None:
    people, log = tmp_path / "p.csv", tmp_path / "e.ndjson"
    people.write_text("email,joined_at,mailto\na@x.example,2025-01-01,x\nb@x.example,2025-01-01,y\nbroken,,\n")
    log.write_text(
        "\n".join(
            json.dumps(e)
            for e in (
                {"at": "2026-03-01", "event": "sent", "email": "a@x.example", "message": "News"},
                {"at": "2026-03-02", "event": "opened", "email": "a@x.example", "message": "News", "agent": "Reader"},
                {"at": "2026-03-01", "event": "sent", "email": "zz@x.example", "message": "News"},
            )
        )
    )
    assert meadow(bare, "init")[0] == 0
    assert meadow(bare, "set", "relay_ips", '["192.0.2.1"]')[0] == 0
    assert meadow(bare, "set", "relay_ips")[1] == '["192.0.2.1"]\n'
    assert meadow(bare, "init")[0] == 2, "there is one already"
    code, out, err = meadow(
        bare,
        "import",
        "subscribers",
        str(people),
        "--map",
        "mailto=town",
        "--consent",
        "News=given",
        "--source",
        "form",
        "--json",
    )
    assert code == 1 and json.loads(out)["taken"] == 2 and json.loads(out)["refused_rows"][0]["line"] == 4
    code, out, err = meadow(bare, "import", "events", str(log))
    assert code == 1 and "zz@x.example" in err
    code, out, _ = meadow(bare, "score", "--json")
    summary = json.loads(out)
    assert code == 0 and summary["subscribers"] == 2 and sum(summary["bands"].values()) == 2
    assert set(summary["inactive"]) == {"never engaged", "stopped engaging"}
    code, out, _ = meadow(bare, "score", "show", "A@X.example", "--as-of", "2026-03-11", "--json")
    why = json.loads(out)
    assert (why["engaged"], why["counted"], why["last_engaged_at_message"], len(why["steps"])) == (1, 1, 1, 1)
    assert (why["active"], why["chance"]) == pytest.approx(chance(1, 1, 1, (0.6, 1.2, 1.0, 40.0)))
    assert why["if_ignored"] < why["chance"] < why["if_engaged"] and not why["own_history"]
    assert meadow(bare, "score", "export", "-o", str(tmp_path / "scores.csv"))[0] == 0
    with (tmp_path / "scores.csv").open(encoding="utf-8") as f:
        exported = {r["email"]: r for r in csv.DictReader(f)}
    assert (
        len(exported) == 2 and exported["a@x.example"]["engaged"] == "1" and len(exported["a@x.example"]["chance"]) == 8
    )
    code, out, _ = meadow(bare, "score", "check", "--json")
    assert code == 0 and json.loads(out)["auc"] is None and json.loads(out)["tenths"] == []
    code, out, _ = meadow(bare, "segment", "count", 'permitted for "News" and opened at least 1', "--funnel", "--json")
    found = json.loads(out)
    assert found["count"] == 1 and found["funnel"][0] == {"clause": "everyone", "remaining": 2}
    assert found["funnel"][2] == {"clause": "opened at least 1", "remaining": 1, "removed_only_by_this": 1}
    code, out, _ = meadow(bare, "segment", "count", "-", "--json", given='field "town" is "x" or never engaged')
    assert json.loads(out)["count"] == 2
    code, out, _ = meadow(bare, "segment", "count", "opened at least 1", "--as-of", "2026-03-01T12:00:00Z", "--json")
    assert json.loads(out)["count"] == 0, "what happened later does not exist"
    assert meadow(bare, "segment", "save", "Readers", "opened at least 1")[0] == 0
    assert meadow(bare, "segment", "export", "Readers", "-o", str(tmp_path / "o.csv"))[0] == 0
    assert "a@x.example" in (tmp_path / "o.csv").read_text()


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["segment", "count", "opened at", "--json"], 1, "At character 8"),
        (["segment", "parse", "", "--json"], 1, "The rule is empty"),
        (["score", "show", "nobody@x.example", "--json"], 1, "no subscriber"),
        (["import", "events", "nowhere.csv", "--json"], 3, "cannot be opened"),
        (["segment", "count", "@nowhere.txt", "--json"], 3, "cannot be opened"),
        (["segment", "shorten"], 2, "No such command"),
        (["score", "--as-of", "yesterday"], 2, "is not a time"),
        (["set", "relay_port", "many"], 2, "is written like 2525"),
        (["set", "shoe", "1"], 2, "there is no setting “shoe”"),
        (["set", "scored_at", "5"], 2, "there is no setting"),
        (["set", "time_zone", "Europe/Nowhere"], 2, "not a time zone"),
        (["set", "public_url", "foo"], 2, "not a web address"),
        (["set", "connections", "0"], 2, "goes from 1 to 64"),
        (["set", "quiet_hours", "99-3"], 2, "range of hours"),
        (["user", "add", "x", "--role", "analyst"], 1, "at least 10 characters"),
    ],
)
def test_what_goes_wrong(folder: Path, arguments: list[str], code: int, words: str) -> None:
    meadow(folder, "init")
    status, out, err = meadow(folder, *arguments, given="short\n")
    assert status == code and words in err
    if "--json" in arguments:
        assert words in json.loads(out)["error"]


@pytest.mark.parametrize("arguments", [["serve"], ["worker", "--once"], ["score"], ["set"], ["user", "list"]])
def test_a_folder_that_is_no_workspace_is_refused(tmp_path: Path, arguments: list[str]) -> None:
    """And stays as it is: a slip in --data makes no second workspace."""
    status, _, err = meadow(tmp_path / "slip", *arguments)
    assert status == 3 and "Create one with meadow init" in err and not (tmp_path / "slip").exists()


def test_the_list_of_commands_says_what_they_say() -> None:
    """It is written without loading them, and loads nothing that it does not need."""
    for name, (module, attribute, words) in COMMANDS.items():
        command = getattr(import_module(f"openmeadow.cli.{module}"), attribute)
        assert (command.name, command.get_short_help_str(200), command.hidden) == (name, words, name in HIDDEN)
    script = (
        "import sys; from openmeadow.cli.main import main; main(['--help'], standalone_mode=False); print(*sys.modules)"
    )
    told = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert "  worker " in told and "standins" not in told.partition("Commands:")[2].partition("worker")[0]
    assert not {"numpy", "flask", "dns"} & set(told.split())


@pytest.mark.parametrize("arguments", [["set"], ["set", "time_zone"], ["user", "list"]])
def test_what_asks_nothing_of_people_loads_nothing_for_it(folder: Path, arguments: list[str]) -> None:
    called = ["--data", str(folder), *arguments]
    script = (
        f"import sys; from openmeadow.cli.main import main; main({called!r}, standalone_mode=False); print(*sys.modules)"
    )
    told = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert not {"numpy", "pydantic", "flask", "lark"} & set(told.split()), arguments
