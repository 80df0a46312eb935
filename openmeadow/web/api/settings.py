"""Settings of the workspace, its accounts and tokens, and what is missing before a first real send."""

from __future__ import annotations

from flask import Response, g

from openmeadow.core.moments import DAY
from openmeadow.core.settings import GROUPS, SETTINGS, shown
from openmeadow.services import accounts, settings
from openmeadow.services.today import workspace_check
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store import users as table
from openmeadow.web import schemas as m
from openmeadow.web.api.account import current, token_line
from openmeadow.web.router import ANALYSE, Routes, need_proof, who

routes = Routes()


def view(workspace: Workspace) -> m.SettingsView:
    """All settings as the page shows them."""
    values = settings_table.settings(workspace.store.read())
    groups = [
        m.SettingGroup(
            name=group,
            settings=[
                m.SettingLine(
                    name=s.name,
                    label=s.label,
                    kind=s.kind,  # type: ignore[arg-type]
                    value=shown(s, values[s.name]),
                    default=s.default if s.usual is None else s.usual,
                    range=s.range,
                    help=s.help,
                    choices=list(s.choices),
                    low=s.low,
                    high=s.high,
                    unit=s.unit,
                )
                for s in SETTINGS.values()
                if s.group == group
            ],
        )
        for group in GROUPS
    ]
    return m.SettingsView(groups=groups, approval_off_asked_by=settings.approval_off_asked_by(workspace))


def link(workspace: Workspace, row_id: int, token: str) -> m.AccountLink:
    """The address by which a password is chosen, and for how many days it holds."""
    days = accounts.LINK_HOLDS["set password"] // DAY
    return m.AccountLink(
        id=row_id, url=f"{str(workspace.setting('public_url')).rstrip('/')}/set-password/{token}", holds_days=days
    )


@routes.route("GET", "/settings", m.SettingsView)
def see(workspace: Workspace) -> m.SettingsView:
    """Every setting with its value, type, default and help."""
    return view(workspace)


@routes.route("PUT", "/settings", m.SettingsView, body=m.SettingsIn, rights=ANALYSE)
def change(workspace: Workspace, body: m.SettingsIn) -> m.SettingsView | Response:
    """Change settings, all of them or none; what weakens security needs the password once more."""
    if settings.weakens(workspace, body.values) and (refusal := need_proof(workspace)) is not None:
        return refusal
    settings.change(workspace, body.values, who(), g.user.id)
    return view(workspace)


@routes.route("GET", "/settings/check", m.WorkspaceChecks)
def check(workspace: Workspace) -> m.WorkspaceChecks:
    """What is missing before a first real send; nothing outside is asked."""
    found = workspace_check.quick(workspace)
    return m.WorkspaceChecks(findings=[m.WorkspaceCheck.read_from(f) for f in found])


@routes.route("GET", "/accounts", m.Accounts, rights=ANALYSE)
def every(workspace: Workspace) -> m.Accounts:
    """Every account, and every token."""
    db, lines = workspace.store.read(), []
    for u in table.users(db):
        sessions = table.sessions_of(db, u.id)
        lines.append(
            m.AccountLine(
                id=u.id,
                name=u.name,
                role=u.role,  # type: ignore[arg-type]
                email=u.email,
                second_factor=bool(u.totp_secret),
                invited=not u.password,
                sessions=len(sessions),
                seen_at=max((s.seen_at for s in sessions), default=None),
                made_at=u.made_at,
            )
        )
    return m.Accounts(accounts=lines, tokens=[token_line(workspace, t) for t in table.tokens(db)])


@routes.route("POST", "/accounts", m.AccountLink, body=m.AccountIn, rights=ANALYSE, proof=True)
def invite(workspace: Workspace, body: m.AccountIn) -> m.AccountLink:
    """Invite somebody: the link by which they choose a password, said once."""
    token = accounts.invite(workspace, body.name, body.role, body.email or None, who())
    return link(workspace, accounts.named(workspace, body.name.strip()).id, token)


@routes.route("POST", "/accounts/<int:id>/link", m.AccountLink, rights=ANALYSE, proof=True)
def link_again(workspace: Workspace, row_id: int) -> m.AccountLink:
    """A new link to choose a password; the earlier ones end."""
    return link(workspace, row_id, accounts.link_again(workspace, row_id, who()))


@routes.route("PUT", "/accounts/<int:id>/role", m.Done, body=m.RoleIn, rights=ANALYSE, proof=True)
def role(workspace: Workspace, row_id: int, body: m.RoleIn) -> m.Done:
    """Another role; the account's sessions end."""
    accounts.set_role(workspace, row_id, body.role, who())
    return m.Done(id=row_id)


@routes.route("DELETE", "/accounts/<int:id>/second-factor", m.Done, rights=ANALYSE, proof=True)
def reset_second_factor(workspace: Workspace, row_id: int) -> m.Done:
    """Take the second factor off an account whose authenticator was lost; its sessions end."""
    accounts.drop_second_factor(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("DELETE", "/accounts/<int:id>/sessions", m.Done, rights=ANALYSE, own=True)
def sign_out(workspace: Workspace, row_id: int) -> m.Done:
    """End all sessions of an account."""
    return m.Done(id=row_id, count=accounts.sign_out_everywhere(workspace, row_id, who(), current()))


@routes.route("DELETE", "/accounts/<int:id>", m.Done, rights=ANALYSE, proof=True)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Remove an account; what it did stays in the activity log."""
    accounts.remove(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("DELETE", "/tokens/<int:id>", m.Done, rights=ANALYSE, own=True)
def end_token(workspace: Workspace, row_id: int) -> m.Done:
    """End anybody's token."""
    accounts.end_token(workspace, row_id, who())
    return m.Done(id=row_id)
