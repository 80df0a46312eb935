"""Sign-in, the account, the demo clock."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.core.settings import Value
from openmeadow.core.states import Role, Scope
from openmeadow.services.models.common import Model


class SignIn(Model):
    name: str = Field(max_length=200)
    password: str = Field(max_length=1000)
    code: str = Field("", max_length=20)


class Me(Model):
    name: str
    role: Role
    csrf: str
    second_factor: bool
    workspace: str
    time_zone: str
    demo: bool
    world_url: str
    email: str
    currency: str
    recovery_codes: int = Field(description="how many are left")


class AccountSession(Model):
    mark: str = Field(description="the first letters of its hash")
    agent: str
    network: str
    made_at: int
    seen_at: int
    current: bool


class AccountToken(Model):
    id: int
    user: str
    name: str
    scope: Scope
    made_at: int
    expires_at: int | None
    used_at: int | None


class MyAccount(Model):
    sessions: list[AccountSession]
    tokens: list[AccountToken]


class PasswordProof(Model):
    password: str = Field(max_length=1000)


class NewPassword(Model):
    password: str = Field(max_length=1000)


class LinkPassword(Model):
    token: str = Field(max_length=200)
    password: str = Field(max_length=1000)


class TokenIn(Model):
    name: str = Field(max_length=100)
    scope: Scope
    days: int | None = Field(None, ge=1, le=3_650, description="until it expires; none for never")


class RecoveryCodes(Model):
    codes: list[str]


class AccountLine(Model):
    id: int
    name: str
    role: Role
    email: str
    second_factor: bool
    invited: bool = Field(description="has not chosen a password yet")
    sessions: int
    seen_at: int | None
    made_at: int


class Accounts(Model):
    accounts: list[AccountLine]
    tokens: list[AccountToken]


class AccountIn(Model):
    name: str = Field(max_length=100)
    role: Role
    email: str = Field("", max_length=254)


class RoleIn(Model):
    role: Role


class AccountLink(Model):
    id: int
    url: str
    holds_days: int


class SettingLine(Model):
    name: str
    label: str
    kind: Literal["text", "number", "switch", "choice", "list", "object", "secret"]
    value: Value
    default: Value
    range: str
    help: str
    choices: list[str]
    low: float | None
    high: float | None
    unit: str


class SettingGroup(Model):
    name: str
    settings: list[SettingLine]


class SettingsView(Model):
    groups: list[SettingGroup]
    approval_off_asked_by: str


class SettingsIn(Model):
    values: dict[str, Value] = Field(max_length=100)


class WorkspaceCheck(Model):
    check: str
    state: Literal["pass", "warning", "fail"]
    finding: str
    remedy: str
    link: str


class WorkspaceChecks(Model):
    findings: list[WorkspaceCheck]


class SecondFactor(Model):
    secret: str
    address: str


class SecondFactorProof(Model):
    secret: str = Field(max_length=100)
    code: str = Field(max_length=12)


class Action(Model):
    id: int
    undoable: bool
    undone_at: int | None
    at: int
    who: str
    act: str
    what: str
    people: int


class Actions(Model):
    actions: list[Action]


class Token(Model):
    token: str


class ClockMove(Model):
    by: int | None = Field(None, description="seconds; none for the next event")


class Moving(Model):
    now: int
    target: int | None = None
    begun_from: int | None = None
