"""A campaign's batches as files, and everything out and in again."""

from __future__ import annotations

import csv
import json
from pathlib import Path

from icalendar import Calendar

from openmeadow.services.campaigns import campaigns, dispatcher, tracking
from openmeadow.services.subscribers import consent
from openmeadow.services.workspace import Workspace
from openmeadow.store import archive
from openmeadow.web.app import make_app
from tests.conftest import NOW
from tests.processes import meadow
from tests.services.mailing import deliveries_of, mailing


def addresses(path: Path) -> list[str]:
    with path.open(newline="") as f:
        return [r["email"] for r in csv.DictReader(f)]


def test_batches_for_sending_elsewhere(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 30) as m:
        out = tmp_path / "out"
        code, said, _ = meadow(folder, "campaign", "export", "harbour nights", "-o", str(out), "--json")
        counts = json.loads(said)["files"]
        assert code == 0 and sum(counts.values()) == 30 and set(counts) == {f"batch-0{i}.csv" for i in (1, 2, 3)}
        everybody = [a for f in counts for a in addresses(out / f)]
        assert len(everybody) == len(set(everybody)) == 30
        events = Calendar.from_ical((out / "plan.ics").read_bytes()).walk("VEVENT")
        assert [int(e["dtstart"].dt.timestamp()) for e in events] == [NOW, NOW + 3600, NOW + 7200]
        campaigns.start(m.workspace, m.campaign, "t")
        dispatcher.send_due(m.workspace, m.tokens)
        meadow(folder, "campaign", "export", "Harbour nights", "-o", str(tmp_path / "later"))
        with (tmp_path / "later" / "batch-01.csv").open(newline="") as f:
            assert {r["state"] for r in csv.DictReader(f)} == {"sent"}
        assert [addresses(tmp_path / "later" / f) for f in counts] == [addresses(out / f) for f in counts], (
            "drawn the same"
        )
        assert meadow(folder, "campaign", "export", "Nothing", "-o", str(out))[0] == 1
        campaigns.add(m.workspace, "Empty", "t")
        code, _, err = meadow(folder, "campaign", "export", "Empty", "-o", str(out))
        assert code == 1 and "Choose its segments" in err


def test_everything_out_and_in_again(folder: Path, tmp_path: Path) -> None:
    with mailing(folder, 30) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "t")
        dispatcher.send_due(m.workspace, m.tokens)
        first = deliveries_of(m.workspace.store.read(), m.campaign, "first")
        tracking.opened(m.workspace, first[0].id, "Reader", "198.51.100.1")
        tracking.unsubscribed(m.workspace, first[1].id)
        out, fresh = tmp_path / "all", tmp_path / "fresh"
        code, said, _ = meadow(folder, "export", "all", "-o", str(out), "--json")
        assert code == 0 and json.loads(said)["rows"]["subscribers"] == 30
        assert len(addresses(out / "subscribers.csv")) == 30 and len(addresses(out / "events.csv")) == 32
        assert meadow(folder, "export", "all", "-o", str(out))[0] == 1, "never over something that is there"
        assert meadow(fresh, "import", "all", str(out))[0] == 0
        (fresh / "clock").write_text(str(NOW))
        again = Workspace(fresh)
        for table in archive.tables(m.workspace.store.read()):
            if table not in ("activity", "settings"):
                assert list(archive.rows(m.workspace.store.read(), table)) == list(
                    archive.rows(again.store.read(), table)
                ), table
        assert again.score_summary().bands == m.workspace.score_summary().bands
        assert consent.check_evidence(again).verified, "the chain came along with its key"
        with make_app(again).test_client() as client:
            assert client.get(f"/m/{m.tokens.make('m', first[0].id)}").status_code == 200, "links in old mail work"
            assert client.get(f"/m/{m.tokens.make('u', first[0].id)}").status_code == 404
        again.close()
        code, _, err = meadow(fresh, "import", "all", str(out))
        assert code == 1 and "only into an empty workspace" in err
        broken = tmp_path / "broken"
        (out / "tables" / "lists.ndjson").write_text("")
        code, _, err = meadow(broken, "import", "all", str(out))
        assert code == 1 and "lists another number" in err
        assert meadow(broken, "score", "--json")[0] == 0, "all of it or nothing"
        assert meadow(broken, "import", "all", str(tmp_path / "gone"))[0] == 3
