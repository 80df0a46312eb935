"""What a watching machine is told, who may ask, and that alert rules ask for what is told."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from pathlib import Path

import pytest
from prometheus_client.parser import text_string_to_metric_families

from openmeadow.core.states import JobKind
from openmeadow.net import heartbeat
from openmeadow.services.subscribers import import_events, import_subscribers
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.web.app import make_app
from tests.conftest import NOW
from tests.services.test_bring_in import LOG, PEOPLE, put

DEPLOY = Path(__file__).parents[2] / "deploy"


def told(text: str) -> dict[tuple[str, ...], float]:
    """Every sample by its name and the values of its labels."""
    return {
        (s.name, *s.labels.values()): s.value for family in text_string_to_metric_families(text) for s in family.samples
    }


def test_the_figures_are_those_of_the_workspace(workspace: Workspace, folder: Path) -> None:
    client = make_app(workspace).test_client()
    empty = told(client.get("/metrics").text)
    assert empty["openmeadow_ready", "worker"] == 0 and empty["openmeadow_subscribers",] == 0
    import_subscribers.run(workspace.store, put(folder, "p.csv", PEOPLE), NOW, "t")
    import_events.run(workspace.store, put(folder, "e.csv", LOG), NOW, "t")
    heart = heartbeat.Heart(folder, heartbeat.WORKER)
    with workspace.store.atomic() as db:
        settings.add_job(db, JobKind.ACT, "{}", "t", NOW)
    assert client.get("/nowhere").status_code < 500
    full = told(client.get("/metrics").text)
    heart.stop()
    assert full["openmeadow_subscribers",] == 3 and full["openmeadow_jobs", "waiting"] == 1
    assert {k: full["openmeadow_events_total", k] for k in ("sent", "opened", "bounced", "booked", "complained")} == {
        "sent": 2,
        "opened": 1,
        "bounced": 1,
        "booked": 1,
        "complained": 0,
    }
    assert (full["openmeadow_ready", "worker"], full["openmeadow_ready", "database"]) == (1, 1)
    assert 0 <= full["openmeadow_worker_heartbeat_age_seconds",] < 30
    assert full["openmeadow_http_request_seconds_count",] == 2
    assert full["openmeadow_database_bytes",] > 100_000 < full["process_resident_memory_bytes",]


@pytest.mark.parametrize(
    ("headers", "remote", "status"),
    [
        ({}, "127.0.0.1", 200),
        ({}, "::1", 200),
        ({}, "192.0.2.7", 403),
        ({"X-Forwarded-For": "192.0.2.7"}, "127.0.0.1", 403),
        ({"Authorization": "Bearer a long word"}, "192.0.2.7", 200),
        ({"Authorization": "Bearer a long"}, "192.0.2.7", 403),
        ({"Authorization": "Bearer "}, "192.0.2.7", 403),
        ({"Authorization": "Basic a long word"}, "192.0.2.7", 403),
    ],
)
def test_only_this_machine_or_the_token_may_ask(
    workspace: Workspace, headers: dict[str, str], remote: str, status: int
) -> None:
    client = make_app(workspace).test_client()
    with workspace.store.atomic() as db:
        settings.set_setting(db, "metrics_token", "a long word")
    assert client.get("/metrics", headers=headers, environ_base={"REMOTE_ADDR": remote}).status_code == status


def test_without_a_token_nobody_outside_may_ask(workspace: Workspace) -> None:
    client = make_app(workspace).test_client()
    for given in ("Bearer ", "Bearer", ""):
        answer = client.get("/metrics", headers={"Authorization": given}, environ_base={"REMOTE_ADDR": "192.0.2.7"})
        assert answer.status_code == 403


def test_alerts_and_the_dashboard_ask_for_figures_that_are_told(workspace: Workspace) -> None:
    client = make_app(workspace).test_client()
    assert client.get("/healthz").status_code == 200
    names = {key[0] for key in told(client.get("/metrics").text)}
    asked = set(re.findall(r"openmeadow_\w+", (DEPLOY / "alerts.yml").read_text()))
    assert len(asked) >= 7 and asked <= names, asked - names
    panels = json.loads((DEPLOY / "dashboard.json").read_text())["panels"]
    shown = {n for p in panels for t in p["targets"] for n in re.findall(r"(?:openmeadow|process)_\w+", t["expr"])}
    assert len(panels) >= 12 and shown <= names, shown - names
    assert all(p["gridPos"]["x"] + p["gridPos"]["w"] <= 24 for p in panels)


@pytest.mark.skipif(not shutil.which("promtool"), reason="promtool is not on this machine")
def test_alerts_are_raised_by_what_they_are_for(tmp_path: Path) -> None:
    panels = json.loads((DEPLOY / "dashboard.json").read_text())["panels"]
    asked = [t["expr"] for p in panels for t in p["targets"]]
    rules = [{"record": f"panel:{i}", "expr": e} for i, e in enumerate(asked)]
    (tmp_path / "panels.yml").write_text(json.dumps({"groups": [{"name": "dashboard", "rules": rules}]}))
    for command in (["check", "rules", "alerts.yml", tmp_path / "panels.yml"], ["test", "rules", "alerts_test.yml"]):
        found = subprocess.run(["promtool", *command], cwd=DEPLOY, capture_output=True, text=True, check=False)
        assert found.returncode == 0, found.stdout + found.stderr


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="systemd-analyze is not on this machine")
@pytest.mark.parametrize("unit", sorted(DEPLOY.glob("*.service")), ids=lambda p: p.name)
def test_units_are_well_formed_and_hardened(unit: Path, tmp_path: Path) -> None:
    command = re.search(r"^ExecStart=(\S+)", unit.read_text(), re.M)
    assert command is not None
    here = tmp_path / unit.name
    here.write_text(unit.read_text().replace(command.group(1), "/bin/true"))
    checked = subprocess.run(["systemd-analyze", "verify", str(here)], capture_output=True, text=True, check=False)
    assert checked.returncode == 0 and not checked.stderr.strip(), checked.stderr
    judged = ["systemd-analyze", "security", "--offline=true", "--threshold=20", "--no-pager", str(here)]
    found = subprocess.run(judged, capture_output=True, text=True, check=False)
    assert found.returncode == 0, found.stdout[-300:]
