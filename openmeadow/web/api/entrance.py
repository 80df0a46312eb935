"""Sign-in, the account, the demo clock, the activity log."""

from __future__ import annotations

from flask import g, session

from openmeadow.clock import DemoClock
from openmeadow.core.errors import Refused
from openmeadow.desk import accounts
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who

LONGEST_MOVE = 60 * 86400


def moving(desk: Desk) -> m.Moving | None:
    row = workspace.clock_move(desk.store.read())
    return m.Moving(now=desk.now(), target=row["target"], begun_from=row["begun_from"]) if row else None


def register(api: Described, desk: Desk) -> None:
    @api.route("POST", "/sign-in", m.Done, body=m.SignIn, rights=None)
    def sign_in(body: m.SignIn) -> m.Done:
        """Begin a session by name, password and, where set up, a code."""
        from openmeadow.web.app import begin_session

        begin_session(accounts.sign_in(desk, body.name, body.password, body.code))
        return m.Done()

    @api.route("POST", "/sign-out", m.Done)
    def sign_out() -> m.Done:
        """End the session."""
        session.clear()
        return m.Done()

    @api.route("GET", "/me", m.Me)
    def me() -> m.Me:
        """Who is signed in, where."""
        s = workspace.settings(desk.store.read())
        return m.Me(
            name=g.user["name"],
            role=g.user["role"],
            csrf=session.get("csrf", ""),
            second_factor=bool(g.user["totp_secret"]),
            workspace=s["name"],
            time_zone=s["time_zone"],
            demo=isinstance(desk.clock, DemoClock),
            world_url=s["world_url"],
            email=g.user["email"] or "",
        )

    @api.route("POST", "/me/second-factor", m.SecondFactor)
    def second_factor() -> m.SecondFactor:
        """A fresh secret for an authenticator; nothing is kept yet."""
        secret, address = accounts.second_factor_secret(desk, g.user["name"])
        return m.SecondFactor(secret=secret, address=address)

    @api.route("PUT", "/me/second-factor", m.Done, body=m.SecondFactorProof)
    def keep(body: m.SecondFactorProof) -> m.Done:
        """Keep the secret, proved by a code."""
        accounts.keep_second_factor(desk, g.user["id"], body.secret, body.code)
        return m.Done()

    @api.route("DELETE", "/me/second-factor", m.Done)
    def drop() -> m.Done:
        """Sign in without a code from now on."""
        accounts.drop_second_factor(desk, g.user["id"])
        return m.Done()

    @api.route("POST", "/me/token", m.Token)
    def token() -> m.Token:
        """A new personal token for scripts; the old one ends."""
        return m.Token(token=accounts.new_token(desk, g.user["id"]))

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
