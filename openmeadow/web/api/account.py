"""Sign-in, one's own account, the demo clock, the activity log."""

from __future__ import annotations

from flask import g, make_response, request
from flask.typing import ResponseReturnValue

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.services import accounts
from openmeadow.services.clock import DemoClock
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store import users as table
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, COOKIE, Routes, who
from openmeadow.web.session import begin_session

LONGEST_MOVE = 60 * DAY


def moving(workspace: Workspace) -> m.Moving | None:
    """How far the demo clock is being moved; None where it is not."""
    row = settings.clock_move(workspace.store.read())
    return m.Moving(now=workspace.now(), target=row.target, begun_from=row.begun_from) if row else None


def token_line(workspace: Workspace, token: table.Token) -> m.AccountToken:
    """A token as pages list it."""
    owner = table.user(workspace.store.read(), token.user)
    return m.AccountToken(**{**vars(token), "user": owner.name if owner else ""})


def current() -> str:
    """The hash of the session that asks, "" for a token."""
    return g.session.hash if g.session is not None else ""


routes = Routes()


@routes.route("POST", "/sign-in", m.Done, body=m.SignIn, rights=None)
def sign_in(workspace: Workspace, body: m.SignIn) -> ResponseReturnValue:
    """Begin a session by name, password and, where set up, a code."""
    user = accounts.sign_in(workspace, body.name, body.password, body.code, request.remote_addr or "")
    return begin_session(workspace, user.id, m.Done().model_dump())


@routes.route("POST", "/set-password", m.Done, body=m.LinkPassword, rights=None)
def set_by_link(workspace: Workspace, body: m.LinkPassword) -> ResponseReturnValue:
    """Choose a password by a link that was given, once."""
    owner = accounts.set_password_by_link(workspace, body.token, body.password)
    if owner.totp_secret:
        return m.Done().model_dump()  # signs in with the code, as always
    return begin_session(workspace, owner.id, m.Done(id=owner.id).model_dump())


@routes.route("POST", "/sign-out", m.Done, own=True)
def sign_out(workspace: Workspace) -> ResponseReturnValue:
    """End the session."""
    accounts.end_session(workspace, g.session)
    response = make_response(m.Done().model_dump())
    response.delete_cookie(COOKIE)
    return response


@routes.route("GET", "/me", m.Me)
def me(workspace: Workspace) -> m.Me:
    """Who is signed in, where."""
    s = settings.settings(workspace.store.read())
    return m.Me(
        name=g.user.name,
        role=g.user.role,
        csrf=g.session.csrf if g.session is not None else "",
        second_factor=bool(g.user.totp_secret),
        workspace=s["name"],
        time_zone=s["time_zone"],
        demo=isinstance(workspace.clock, DemoClock),
        world_url=s["world_url"],
        email=g.user.email,
        currency=s["currency"],
        recovery_codes=table.count_recovery_codes(workspace.store.read(), g.user.id),
    )


@routes.route("POST", "/me/prove", m.Done, body=m.PasswordProof, own=True)
def prove(workspace: Workspace, body: m.PasswordProof) -> m.Done:
    """Give the password once more; for ten minutes it counts for what weakens security."""
    accounts.prove(workspace, g.session, body.password, request.remote_addr or "")
    return m.Done()


@routes.route("GET", "/me/account", m.MyAccount)
def mine(workspace: Workspace) -> m.MyAccount:
    """One's own sessions and tokens."""
    db = workspace.store.read()
    return m.MyAccount(
        sessions=[
            m.AccountSession(
                mark=s.hash[:16],
                agent=s.agent,
                network=s.network,
                made_at=s.made_at,
                seen_at=s.seen_at,
                current=s.hash == current(),
            )
            for s in table.sessions_of(db, g.user.id)
        ],
        tokens=[token_line(workspace, t) for t in table.tokens(db, g.user.id)],
    )


@routes.route("PUT", "/me/password", m.Done, body=m.NewPassword, proof=True)
def password(workspace: Workspace, body: m.NewPassword) -> m.Done:
    """Another password; all other sessions end."""
    accounts.set_password(workspace, g.user.id, body.password, who(), current())
    return m.Done()


@routes.route("DELETE", "/me/sessions", m.Done, own=True)
def end_others(workspace: Workspace) -> m.Done:
    """End all other sessions."""
    return m.Done(count=accounts.sign_out_everywhere(workspace, g.user.id, who(), current()))


@routes.route("DELETE", "/me/sessions/<mark>", m.Done, own=True)
def end_one(workspace: Workspace, mark: str) -> m.Done:
    """End one session."""
    accounts.end_one_session(workspace, g.user.id, mark, who())
    return m.Done()


@routes.route("POST", "/me/second-factor", m.SecondFactor, own=True)
def second_factor(workspace: Workspace) -> m.SecondFactor:
    """A fresh secret for an authenticator; nothing is kept yet."""
    secret, address = accounts.second_factor_secret(g.user.name)
    return m.SecondFactor(secret=secret, address=address)


@routes.route("PUT", "/me/second-factor", m.RecoveryCodes, body=m.SecondFactorProof, proof=True)
def keep(workspace: Workspace, body: m.SecondFactorProof) -> m.RecoveryCodes:
    """Keep the secret, proved by a code; the recovery codes are said once. All other sessions end."""
    return m.RecoveryCodes(codes=accounts.save_second_factor(workspace, g.user.id, body.secret, body.code, current()))


@routes.route("DELETE", "/me/second-factor", m.Done, proof=True)
def drop(workspace: Workspace) -> m.Done:
    """Sign in without a code from now on; all other sessions end."""
    accounts.drop_second_factor(workspace, g.user.id, who(), current())
    return m.Done()


@routes.route("POST", "/me/tokens", m.Token, body=m.TokenIn, proof=True)
def token(workspace: Workspace, body: m.TokenIn) -> m.Token:
    """A new token for scripts, said once."""
    return m.Token(token=accounts.new_token(workspace, g.user.id, body.name, body.scope, body.days))


@routes.route("DELETE", "/me/tokens/<int:id>", m.Done, own=True)
def end_token(workspace: Workspace, row_id: int) -> m.Done:
    """End one of one's own tokens."""
    accounts.end_token(workspace, row_id, who(), g.user.id)
    return m.Done(id=row_id)


@routes.route("GET", "/activity", m.Actions)
def activity(workspace: Workspace) -> m.Actions:
    """The activity log, newest first: who did what, when, to how many."""
    rows = settings.activity(workspace.store.read())
    return m.Actions(
        actions=[
            m.Action(
                id=r.id,
                at=r.at,
                who=r.who,
                act=r.act,
                what=r.what,
                people=r.people,
                undone_at=r.undone_at,
                undoable=bool(r.undo),
            )
            for r in rows
        ]
    )


@routes.route("POST", "/clock", m.Done, body=m.ClockMove, rights=ANALYSE)
def move(workspace: Workspace, body: m.ClockMove) -> m.Done:
    """Move the demo clock; everything due on the way happens."""
    if not isinstance(workspace.clock, DemoClock):
        raise Refused("Only a demo's clock can be moved.")
    if moving(workspace):
        raise Refused("The clock is already being moved.")
    if body.by is not None and not 0 < body.by <= LONGEST_MOVE:
        raise Refused("The clock only moves forward, 60 days at most.")
    with workspace.store.atomic() as db:
        row_id = settings.add_clock_move(db, None if body.by is None else workspace.now() + body.by, workspace.now())
        settings.log(
            db, workspace.now(), who(), "moved the clock", "to the next event" if body.by is None else f"by {body.by} s"
        )
    return m.Done(id=row_id)
