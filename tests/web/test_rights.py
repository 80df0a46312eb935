"""Who may do what: every route of the API, each role; and what wrong input gets."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns
from openmeadow.services.sequences import editing
from openmeadow.services.workspace import Workspace
from openmeadow.web.app import make_app
from openmeadow.web.describe import description
from tests.services.mailing import mailing
from tests.services.test_sequences import made
from tests.web.conftest import Caller
from tests.web.test_api import PASSWORD, sign_in

# acts that change nothing of the workspace: an observer's too
LOOKS = {
    "POST /api/sign-out",
    "POST /api/me/prove",
    "PUT /api/me/password",
    "DELETE /api/me/sessions/{mark}",
    "POST /api/me/second-factor",
    "PUT /api/me/second-factor",
    "DELETE /api/me/second-factor",
    "POST /api/me/tokens",
    "DELETE /api/me/tokens/{id}",
    "POST /api/actions/preview",
    "POST /api/exports",
    "POST /api/consent-requests/preview",
    "POST /api/segments/count",
    "POST /api/campaigns/{id}/shown-to",
    "POST /api/sunset-policy/trial",
    "POST /api/segments/fits",
    "POST /api/segments/overlap",
    "POST /api/senders/{id}/check",
    "POST /api/addresses/cost",
}
OWN = {"GET /api/accounts"}  # what only an analyst may see
# what a writer may do besides; everything else that changes something is the analyst's
WRITES = {
    "PATCH /api/subscribers/{id}",
    "POST /api/subscribers/{id}/notes",
    "DELETE /api/subscribers/{id}/notes/{note}",
    "POST /api/segments",
    "POST /api/segments/win-back",
    "POST /api/segments/{id}/snapshots",
    "DELETE /api/segments/{id}/snapshots/{copy}",
    "PUT /api/segments/{id}",
    "POST /api/segments/{id}/watch",
    "DELETE /api/segments/{id}",
    "POST /api/campaigns",
    "PUT /api/campaigns/{id}",
    "DELETE /api/campaigns/{id}",
    "POST /api/campaigns/{id}/archive",
    "PUT /api/campaigns/{id}/people",
    "POST /api/campaigns/{id}/links",
    "PUT /api/campaigns/{id}/other-version",
    "POST /api/campaigns/{id}/request-approval",
    "POST /api/campaigns/{id}/test",
    "POST /api/campaigns/{id}/template",
    "POST /api/campaigns/{id}/placement",
    "DELETE /api/templates/{id}",
    "POST /api/images",
    "POST /api/sequences",
    "PUT /api/sequences/{id}",
    "DELETE /api/sequences/{id}",
    "POST /api/sequences/{id}/copy",
}


@pytest.mark.parametrize("role", accounts.ROLES)
def test_every_route_is_for_whom_it_is_meant(workspace: Workspace, role: str) -> None:
    """A new route has to be put down here, or it is the analyst's alone."""
    accounts.add(workspace, role, role, PASSWORD)
    may = LOOKS | (WRITES if role != "observer" else set())
    with make_app(workspace).test_client() as client:
        headers = sign_in(client, role)
        for path, methods in description()["paths"].items():  # type: ignore[attr-defined]
            for method in methods:
                route = f"{method.upper()} {path}"
                if route in (
                    "POST /api/sign-in",
                    "POST /api/set-password",
                    "POST /api/sign-out",
                    "DELETE /api/me/sessions",
                ):
                    continue
                answer = client.open(re.sub("{.*?}", "1", path), method=method.upper(), json={}, headers=headers)
                refused = answer.status_code == 403
                expected = role != "analyst" and (route in OWN if method == "get" else route not in may)
                assert refused == expected, route
                if refused:
                    assert answer.json["error"] == f"Your role ({role}) does not allow this."


LADDER = Definition((Step(1, "message", name="One"), Step(2, "wait", wait=DAY), Step(3, "message", name="Two")))
STEP = {"key": 1, "kind": "message", "name": "One"}
WRONG: list[tuple[str, str, Any, int, str]] = [
    ("POST", "/sequences", {"name": " "}, 409, "A sequence needs a name"),
    ("POST", "/sequences", {"name": "welcome"}, 409, "already a sequence “welcome”"),
    ("POST", "/sequences", {"ready": "fireworks", "name": ""}, 404, "no template “fireworks”"),
    ("GET", "/sequences/77", None, 404, "This sequence does not exist"),
    ("PUT", "/sequences/1", {"definition": {"steps": [{"key": 1, "kind": "dance"}]}}, 409, "no step type “dance”"),
    ("PUT", "/sequences/1", {"definition": {"steps": [STEP, STEP]}}, 409, "a key of its own"),
    ("PUT", "/sequences/1", {"definition": {"steps": [{**STEP, "wait": -5}]}}, 409, "A wait lasts at most a year"),
    ("PUT", "/sequences/1", {"definition": {"steps": [{**STEP, "hour": 24}]}}, 409, "hours go from 0 to 23"),
    ("PUT", "/sequences/1", {"definition": {"steps": [{**STEP, "weekdays": [7]}]}}, 409, "Weekdays go from 0"),
    (
        "PUT",
        "/sequences/1",
        {"definition": {"steps": [STEP], "holdout": 0.9}},
        409,
        "The holdout group can be at most half",
    ),
    ("PUT", "/sequences/1", {"definition": {"steps": [STEP], "begin": {"on": "a whim"}}}, 409, "cannot start “a whim”"),
    ("PUT", "/sequences/1", {"definition": {"steps": []}}, 409, "at a step you are deleting"),
    ("PUT", "/sequences/1", {"definition": {"steps": [STEP]}, "going": {"2": "9"}}, 409, "at a step you are deleting"),
    ("PUT", "/sequences/1", {"name": "Other"}, 409, "already a sequence “Other”"),
    ("POST", "/sequences/1/start", {}, 409, "has already started"),
    ("POST", "/sequences/1/resume", None, 409, "“Welcome” is running"),
    ("DELETE", "/sequences/1", None, 409, "“Welcome” is running"),
    ("POST", "/sequences/2/start", {}, 409, "Not complete yet"),
    ("POST", "/sequences/2/people", {"emails": ["p1@postern.example"]}, 409, "People can be added only while"),
    ("POST", "/sequences/2/end", None, 409, "“Other” is draft"),
    ("POST", "/sequences/1/people", {}, 409, "No one was selected"),
    ("POST", "/sequences/1/people", {"emails": ["x@nowhere.test", "y@nowhere.test"]}, 409, "x@nowhere.test and 1 more"),
    ("POST", "/sequences/1/people", {"rule": "band is Purple"}, 422, "Purple"),
    ("POST", "/sequences/1/enrolments/99/remove", None, 409, "They have left the sequence already"),
    ("POST", "/sequences/1/enrolments/1/skip-wait", None, 200, ""),
    ("GET", "/sequences/1/simulation?supposed=sometimes", None, 404, "use one of never, always, resends"),
    (
        "GET",
        "/sequences/1/simulation?supposed=never&email=no@nowhere.test",
        None,
        404,
        "There is no subscriber with the address",
    ),
    ("GET", "/sequences/1/steps/99/people", None, 200, ""),
    ("POST", "/sequences/1/copy", {"name": "Other"}, 409, "already a sequence “Other”"),
    ("PUT", "/campaigns/1", {"plan": {"batches": 500}}, 409, "1 to 100 batches"),
    ("PUT", "/campaigns/1", {"name": "Welcome: One"}, 409, "already a campaign"),
    ("PUT", "/campaigns/1", {"subject": 7}, 422, "subject"),
    (
        "PUT",
        "/campaigns/1/people",
        {"email": "no@nowhere.test", "side": "in"},
        404,
        "There is no subscriber with the address",
    ),
    (
        "POST",
        "/campaigns/1/override",
        {"check": "Links", "finding": "no such", "reason": "so"},
        409,
        "This finding no longer exists. Run",
    ),
    ("POST", "/campaigns/1/resolve", {"arrived": True}, 200, ""),
    ("POST", "/campaigns/1/pause", None, 409, "is draft, so this is not possible"),
    ("POST", "/campaigns/1/resume", None, 409, "is draft, so this is not possible"),
    ("POST", "/campaigns/1/batches/99/move", {"due_at": 5}, 404, "This batch does not exist"),
    ("POST", "/campaigns/1/test", {"to": "not an address"}, 409, "is not a valid address"),
    ("POST", "/campaigns/2/start", None, 409, "has already started"),
    ("POST", "/campaigns/2/stop", None, 409, "It is part of a sequence"),
    ("DELETE", "/campaigns/2", None, 409, "It is part of a sequence"),
    ("GET", "/campaigns/77/results", None, 404, "This campaign does not exist"),
]


def test_wrong_input_gets_a_sentence_and_changes_nothing(folder: Path) -> None:
    """A sequence that runs with one person at its wait, a draft beside it, a campaign that is a draft."""
    with mailing(folder, 6) as m, make_app(m.workspace).test_client() as client:
        accounts.add(m.workspace, "analyst", "analyst", PASSWORD)
        call = Caller(client, "analyst")
        id = made(m, LADDER)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1], "test")
        editing.add(m.workspace, "Other", "test")
        call("POST", "/sequences/1/people", {"emails": ["p1@postern.example"]})
        from tests.services.test_sequences import step_on

        step_on(m)
        editing.take_out(m.workspace, id, 2, "test")
        before = call("GET", "/sequences/1")["definition"]
        wrong = []
        for method, path, body, status, said in WRONG:
            answer = client.open(f"/api{path}", method=method, json=body, headers=call.headers)
            told = answer.json.get("error", "") if answer.is_json else answer.text
            if answer.status_code != status or said not in told or re.search(r"Traceback|sqlite|Error\b|None", told):
                wrong.append((method, path, answer.status_code, told[:150]))
        assert not wrong, chr(10).join(map(str, wrong))
        assert call("GET", "/sequences/1")["definition"] == before
        assert campaigns.row_of(m.workspace, m.campaign).subject == "Harbour nights"
