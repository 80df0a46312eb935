"""A workspace of each released version opens in the present code, with all that was in it."""

from __future__ import annotations

import sqlite3
import tomllib
from pathlib import Path

import pytest

from openmeadow.core.rules.parser import parse
from openmeadow.demo.build import NOW
from openmeadow.services import accounts
from openmeadow.services.segments import segments
from openmeadow.services.subscribers import consent
from openmeadow.services.workspace import Workspace
from openmeadow.web.app import make_app
from scripts.release import RELEASED, unpack
from tests.web.test_api import PASSWORD, sign_in

KEPT = sorted(RELEASED.glob("*.sql.xz"), key=lambda p: [int(n) for n in p.name[: -len(".sql.xz")].split(".")])
COUNTED = {"subscribers": "subscribers", "events": "events", "campaigns": "campaigns", "consents": "consents"}
OF_ONE = ("/api/subscribers/1", "/api/campaigns/1", "/api/campaigns/1/checks", "/api/campaigns/1/schedule")


@pytest.mark.parametrize("kept", KEPT, ids=lambda p: p.name.removesuffix(".sql.xz"))
def test_it_opens_with_all_that_is_in_it(kept: Path, tmp_path: Path) -> None:
    folder = tmp_path / "data"
    folder.mkdir(mode=0o700)
    (folder / "clock").write_text(str(NOW))
    unpack(kept, folder)
    old = sqlite3.connect(folder / "meadow.db")
    tables = {name for (name,) in old.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
    there = {t: old.execute(f"SELECT count(*) FROM {t}").fetchone()[0] for t in COUNTED if t in tables}
    rules = old.execute("SELECT count(*) FROM segments").fetchone()[0]
    old.close()
    workspace = Workspace(folder)
    db = workspace.store.read()
    assert db.execute("PRAGMA foreign_key_check").fetchall() == [] and there["subscribers"] == 60
    assert there == {t: db.execute(f"SELECT count(*) FROM {COUNTED[t]}").fetchone()[0] for t in there}
    found = segments.every(workspace)
    assert len(found) == rules > 0 and all(parse(s.rule) and s.count is not None for s in found)
    assert workspace.count("not (never engaged) or never engaged")[0] == 60 and consent.check_evidence(workspace).verified
    accounts.add(workspace, "anew", "analyst", PASSWORD)
    app = make_app(workspace)
    pages = [r.template for r in app.extensions["described"].routes if (r.method, r.query) == ("get", None)]
    pages = [p for p in pages if "{" not in p] + list(OF_ONE)
    assert len(pages) > 25
    with app.test_client() as client:
        headers = sign_in(client, "anew")
        for page in pages:
            answer = client.get(page, headers=headers)
            assert answer.status_code == 200, (page, answer.data[:200])
    workspace.close()


def test_the_version_that_is_released_next_is_not_forgotten() -> None:
    """Every heading of the changelog has its workspace; ``make release`` makes it."""
    root = Path(__file__).parents[2]
    heads = [line[3:] for line in (root / "CHANGELOG.md").read_text().splitlines() if line.startswith("## ")]
    assert {h for h in heads if h != "Unreleased"} == {p.name.removesuffix(".sql.xz") for p in KEPT}
    version = tomllib.loads((root / "pyproject.toml").read_text())["project"]["version"]
    assert version == next(h for h in heads if h != "Unreleased")
