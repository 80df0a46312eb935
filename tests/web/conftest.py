"""A workspace with 40 people and a signed-in client of its API."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient

from openmeadow.core.moments import DAY
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns, dispatcher, tracking
from openmeadow.web.app import make_app
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing
from tests.web.test_api import PASSWORD, sign_in


class Caller:
    """A signed-in client; every answer must be what was expected of it."""

    def __init__(self, client: FlaskClient, name: str) -> None:
        self.client = client
        self.headers = sign_in(client, name)

    def __call__(self, method: str, path: str, body: object = None, status: int = 200) -> Any:
        answer = self.client.open(f"/api{path}", method=method, json=body, headers=self.headers)
        assert answer.status_code == status, (method, path, answer.status_code, answer.data[:300])
        return answer.json if answer.is_json else answer.data


@pytest.fixture
def running(folder: Path) -> Iterator[tuple[Mailing, Caller]]:
    with mailing(folder, 40) as m:
        for role in accounts.ROLES:
            accounts.add(m.workspace, role, role, PASSWORD)
        with make_app(m.workspace).test_client() as client:
            yield m, Caller(client, "analyst")


def sending_day(m: Mailing) -> None:
    """Everybody got the campaign; twelve opened it."""
    campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
    campaigns.start(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    set_clock(m.workspace, NOW + DAY)
    for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")[:12]:
        tracking.opened(m.workspace, d.id, "Reader", "198.51.100.1")
