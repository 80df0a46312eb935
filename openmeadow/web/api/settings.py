"""Settings of the workspace, its accounts and tokens, and what is missing before a first real send."""

from __future__ import annotations

from flask import Response, g

from openmeadow.core.settings import GROUPS, SETTINGS, shown
from openmeadow.desk import accounts, settings, workspace_check
from openmeadow.desk.desk import Desk
from openmeadow.store import accounts as table
from openmeadow.store import workspace
from openmeadow.web import models as m
from openmeadow.web.api.entrance import current, token_line
from openmeadow.web.described import ANALYSE, Described, need_proof, who

DAY = 86_400


def register(api: Described, desk: Desk) -> None:
    def view() -> m.SettingsView:
        values = workspace.settings(desk.store.read())
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
        return m.SettingsView(groups=groups, approval_off_asked_by=settings.approval_off_asked_by(desk))

    def link(id: int, token: str) -> m.AccountLink:
        days = accounts.LINK_HOLDS["set password"] // DAY
        return m.AccountLink(
            id=id, url=f"{str(desk.setting('public_url')).rstrip('/')}/set-password/{token}", holds_days=days
        )

    @api.route("GET", "/settings", m.SettingsView)
    def see() -> m.SettingsView:
        """Every setting with its value, type, default and help."""
        return view()

    @api.route("PUT", "/settings", m.SettingsView, body=m.SettingsIn, rights=ANALYSE)
    def change(body: m.SettingsIn) -> m.SettingsView | Response:
        """Change settings, all of them or none; what weakens security needs the password once more."""
        if settings.weakens(desk, body.values) and (refusal := need_proof(desk)) is not None:
            return refusal
        settings.change(desk, body.values, who(), g.user.id)
        return view()

    @api.route("GET", "/settings/check", m.WorkspaceChecks)
    def check() -> m.WorkspaceChecks:
        """What is missing before a first real send; nothing outside is asked."""
        found = workspace_check.quick(desk)
        return m.WorkspaceChecks(findings=[m.WorkspaceCheck(**vars(f)) for f in found])

    @api.route("GET", "/accounts", m.Accounts, rights=ANALYSE)
    def every() -> m.Accounts:
        """Every account, and every token."""
        db, lines = desk.store.read(), []
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
        return m.Accounts(accounts=lines, tokens=[token_line(desk, t) for t in table.tokens(db)])

    @api.route("POST", "/accounts", m.AccountLink, body=m.AccountIn, rights=ANALYSE, proof=True)
    def invite(body: m.AccountIn) -> m.AccountLink:
        """Invite somebody: the link by which they choose a password, said once."""
        token = accounts.invite(desk, body.name, body.role, body.email or None, who())
        return link(accounts.named(desk, body.name.strip()).id, token)

    @api.route("POST", "/accounts/<int:id>/link", m.AccountLink, rights=ANALYSE, proof=True)
    def link_again(id: int) -> m.AccountLink:
        """A new link to choose a password; the earlier ones end."""
        return link(id, accounts.link_again(desk, id, who()))

    @api.route("PUT", "/accounts/<int:id>/role", m.Done, body=m.RoleIn, rights=ANALYSE, proof=True)
    def role(id: int, body: m.RoleIn) -> m.Done:
        """Another role; the account's sessions end."""
        accounts.set_role(desk, id, body.role, who())
        return m.Done(id=id)

    @api.route("DELETE", "/accounts/<int:id>/second-factor", m.Done, rights=ANALYSE, proof=True)
    def reset_second_factor(id: int) -> m.Done:
        """Take the second factor off an account whose authenticator was lost; its sessions end."""
        accounts.drop_second_factor(desk, id, who())
        return m.Done(id=id)

    @api.route("DELETE", "/accounts/<int:id>/sessions", m.Done, rights=ANALYSE, own=True)
    def sign_out(id: int) -> m.Done:
        """End all sessions of an account."""
        return m.Done(id=id, count=accounts.sign_out_everywhere(desk, id, who(), current()))

    @api.route("DELETE", "/accounts/<int:id>", m.Done, rights=ANALYSE, proof=True)
    def remove(id: int) -> m.Done:
        """Remove an account; what it did stays in the activity log."""
        accounts.remove(desk, id, who())
        return m.Done(id=id)

    @api.route("DELETE", "/tokens/<int:id>", m.Done, rights=ANALYSE, own=True)
    def end_token(id: int) -> m.Done:
        """End anybody's token."""
        accounts.end_token(desk, id, who())
        return m.Done(id=id)
