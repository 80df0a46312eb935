"""Sign-in, one's own account, the demo clock, the activity log."""

from __future__ import annotations

from flask import g, make_response, request
from flask.typing import ResponseReturnValue

from openmeadow.clock import DemoClock
from openmeadow.core.errors import Refused
from openmeadow.desk import accounts
from openmeadow.desk.desk import Desk
from openmeadow.store import accounts as table
from openmeadow.store import workspace
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, COOKIE, Described, who

LONGEST_MOVE = 60 * 86400


def moving(desk: Desk) -> m.Moving | None:
    row = workspace.clock_move(desk.store.read())
    return m.Moving(now=desk.now(), target=row["target"], begun_from=row["begun_from"]) if row else None


def begin_session(desk: Desk, user: int, answer: ResponseReturnValue, *, proved: bool = True) -> ResponseReturnValue:
    """The answer with the cookie of a new session; the one that the browser had ends."""
    if (old := request.cookies.get(COOKIE)) and (session := accounts.session_of(desk, old)) is not None:
        accounts.end_session(desk, session)
    begun = accounts.begin_session(
        desk, user, request.headers.get("User-Agent", ""), request.remote_addr or "", proved=proved
    )
    response = make_response(answer)
    secure = str(desk.setting("public_url")).startswith("https")
    response.set_cookie(COOKIE, begun.secret, accounts.LONGEST, httponly=True, samesite="Lax", secure=secure)
    return response


def token_line(desk: Desk, token: table.Token) -> m.AccountToken:
    owner = table.user(desk.store.read(), token.user)
    return m.AccountToken(**{**vars(token), "user": owner.name if owner else ""})


def current() -> str:
    """The hash of the session that asks, "" for a token."""
    return g.session.hash if g.session is not None else ""


def register(api: Described, desk: Desk) -> None:
    @api.route("POST", "/sign-in", m.Done, body=m.SignIn, rights=None)
    def sign_in(body: m.SignIn) -> ResponseReturnValue:
        """Begin a session by name, password and, where set up, a code."""
        user = accounts.sign_in(desk, body.name, body.password, body.code, request.remote_addr or "")
        return begin_session(desk, user.id, m.Done().model_dump())

    @api.route("POST", "/set-password", m.Done, body=m.LinkPassword, rights=None)
    def set_by_link(body: m.LinkPassword) -> ResponseReturnValue:
        """Choose a password by a link that was given, once."""
        owner = accounts.set_password_by_link(desk, body.token, body.password)
        if owner.totp_secret:
            return m.Done().model_dump()  # signs in with the code, as always
        return begin_session(desk, owner.id, m.Done(id=owner.id).model_dump())

    @api.route("POST", "/sign-out", m.Done, own=True)
    def sign_out() -> ResponseReturnValue:
        """End the session."""
        accounts.end_session(desk, g.session)
        response = make_response(m.Done().model_dump())
        response.delete_cookie(COOKIE)
        return response

    @api.route("GET", "/me", m.Me)
    def me() -> m.Me:
        """Who is signed in, where."""
        s = workspace.settings(desk.store.read())
        return m.Me(
            name=g.user.name,
            role=g.user.role,
            csrf=g.session.csrf if g.session is not None else "",
            second_factor=bool(g.user.totp_secret),
            workspace=s["name"],
            time_zone=s["time_zone"],
            demo=isinstance(desk.clock, DemoClock),
            world_url=s["world_url"],
            email=g.user.email,
            currency=s["currency"],
            recovery_codes=table.count_recovery_codes(desk.store.read(), g.user.id),
        )

    @api.route("POST", "/me/prove", m.Done, body=m.PasswordProof, own=True)
    def prove(body: m.PasswordProof) -> m.Done:
        """Give the password once more; for ten minutes it counts for what weakens security."""
        accounts.prove(desk, g.session, body.password, request.remote_addr or "")
        return m.Done()

    @api.route("GET", "/me/account", m.MyAccount)
    def mine() -> m.MyAccount:
        """One's own sessions and tokens."""
        db = desk.store.read()
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
            tokens=[token_line(desk, t) for t in table.tokens(db, g.user.id)],
        )

    @api.route("PUT", "/me/password", m.Done, body=m.NewPassword, proof=True)
    def password(body: m.NewPassword) -> m.Done:
        """Another password; all other sessions end."""
        accounts.set_password(desk, g.user.id, body.password, who(), current())
        return m.Done()

    @api.route("DELETE", "/me/sessions", m.Done, own=True)
    def end_others() -> m.Done:
        """End all other sessions."""
        return m.Done(count=accounts.sign_out_everywhere(desk, g.user.id, who(), current()))

    @api.route("DELETE", "/me/sessions/<mark>", m.Done, own=True)
    def end_one(mark: str) -> m.Done:
        """End one session."""
        accounts.end_one_session(desk, g.user.id, mark, who())
        return m.Done()

    @api.route("POST", "/me/second-factor", m.SecondFactor, own=True)
    def second_factor() -> m.SecondFactor:
        """A fresh secret for an authenticator; nothing is kept yet."""
        secret, address = accounts.second_factor_secret(g.user.name)
        return m.SecondFactor(secret=secret, address=address)

    @api.route("PUT", "/me/second-factor", m.RecoveryCodes, body=m.SecondFactorProof, proof=True)
    def keep(body: m.SecondFactorProof) -> m.RecoveryCodes:
        """Keep the secret, proved by a code; the recovery codes are said once. All other sessions end."""
        return m.RecoveryCodes(codes=accounts.keep_second_factor(desk, g.user.id, body.secret, body.code, current()))

    @api.route("DELETE", "/me/second-factor", m.Done, proof=True)
    def drop() -> m.Done:
        """Sign in without a code from now on; all other sessions end."""
        accounts.drop_second_factor(desk, g.user.id, who(), current())
        return m.Done()

    @api.route("POST", "/me/tokens", m.Token, body=m.TokenIn, proof=True)
    def token(body: m.TokenIn) -> m.Token:
        """A new token for scripts, said once."""
        return m.Token(token=accounts.new_token(desk, g.user.id, body.name, body.scope, body.days))

    @api.route("DELETE", "/me/tokens/<int:id>", m.Done, own=True)
    def end_token(id: int) -> m.Done:
        """End one of one's own tokens."""
        accounts.end_token(desk, id, who(), g.user.id)
        return m.Done(id=id)

    @api.route("GET", "/activity", m.Deeds)
    def activity() -> m.Deeds:
        """The activity log, newest first: who did what, when, to how many."""
        rows = workspace.activity(desk.store.read())
        said = ("id", "at", "who", "act", "what", "people", "undone_at")
        return m.Deeds(deeds=[m.Deed(**{k: r[k] for k in said}, undoable=bool(r["undo"])) for r in rows])

    @api.route("POST", "/clock", m.Done, body=m.ClockMove, rights=ANALYSE)
    def move(body: m.ClockMove) -> m.Done:
        """Move the demo clock; everything due on the way happens."""
        if not isinstance(desk.clock, DemoClock):
            raise Refused("Only a demo's clock can be moved.")
        if moving(desk):
            raise Refused("The clock is being moved already.")
        if body.by is not None and not 0 < body.by <= LONGEST_MOVE:
            raise Refused("The clock moves forward only, at most 60 days at once.")
        with desk.store.atomic() as db:
            id = workspace.add_clock_move(db, None if body.by is None else desk.now() + body.by, desk.now())
            workspace.log(
                db, desk.now(), who(), "moved the clock", "to the next event" if body.by is None else f"by {body.by} s"
            )
        return m.Done(id=id)
