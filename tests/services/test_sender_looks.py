"""Two looks at a sending domain at once: the one that began earlier never stands over the later one."""

from __future__ import annotations

from pathlib import Path

import pytest

from openmeadow.core.authentication.findings import RecordFinding
from openmeadow.net.dns import Resolver
from openmeadow.services.senders import domains
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders
from openmeadow.store.senders.records import Domain
from tests.services.mailing import mailing


def test_a_look_from_before_the_records_were_published_is_not_kept(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with mailing(folder, 4) as m:
        id = domains.add_domain(m.workspace, "family.kestrelquay.example", "t")
        domains.make_key(m.workspace, id, "t")
        after_dns, met = domains._beyond_dns, []

        def meanwhile(workspace: Workspace, row: Domain, resolver: Resolver) -> list[RecordFinding]:
            """Once, when a look has its answers: somebody publishes, and looks too."""
            if not met:
                met.append(1)
                domains.publish(workspace, id, "t")
            return after_dns(workspace, row, resolver)

        monkeypatch.setattr(domains, "_beyond_dns", meanwhile)
        domains.check(m.workspace, id)
        row = senders.domain(m.workspace.store.read(), id)
        assert row is not None and met
        found = {r["record"]: r["state"] for r in row.records}
        assert next(state for record, state in found.items() if record.startswith("DKIM")) == "pass", found
        changed = [(c.record, c.after) for c in senders.changes(m.workspace.store.read(), id)]
        assert not any(record.startswith("DKIM") and after == "fail" for record, after in changed), changed
