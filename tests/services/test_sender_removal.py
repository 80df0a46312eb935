"""A sending domain and a from address are removed and come back."""

from __future__ import annotations

from pathlib import Path

import pytest

from openmeadow.core.errors import Refused
from openmeadow.services.campaigns import campaigns, preflight
from openmeadow.services.senders import domains, removal
from openmeadow.services.today import workspace_check
from openmeadow.store.senders import senders
from tests.services.mailing import DOMAIN, mailing


def test_what_sends_stays_and_what_is_removed_comes_back(folder: Path) -> None:
    with mailing(folder, 5) as m:
        w, db = m.workspace, m.workspace.store.read()
        domain = senders.domains(db)[0]
        address = senders.addresses(db)[0]
        campaigns.start(w, m.campaign, "ann")
        for remove, row_id in ((removal.remove_domain, domain.id), (removal.remove_address, address.id)):
            with pytest.raises(Refused, match="“Harbour nights” sends from"):
                remove(w, row_id, "ann")
        campaigns.stop(w, m.campaign, "ann")
        draft = campaigns.add(w, "Next", "ann")
        campaigns.write(w, draft, {"from_address": address.id})
        removal.remove_address(w, address.id, "ann")
        assert not senders.addresses(db) and senders.ready_address(db) is None
        assert any("confirmed" in c.finding for c in preflight.checks(w, campaigns.row_of(w, draft)))
        removal.remove_address(w, address.id, "ann", back=True)
        removal.remove_domain(w, domain.id, "ann")
        assert not senders.domains(db) and senders.domains(db, removed_too=True)
        assert "No sending domain has been added." in {f.finding for f in workspace_check.quick(w)}
        assert domains.add_domain(w, DOMAIN, "ann") == domain.id, "added again it is as it was"
        assert senders.addresses(db)[0].id == address.id
