"""What campaigns say: previews, templates, pictures, the workspace's frame."""

from __future__ import annotations

from contextlib import closing

from flask import request

from openmeadow.core.errors import Refused
from openmeadow.core.message import support
from openmeadow.desk import campaigns, pictures, previews, templates
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace, writing
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, WRITE, Described, who

SWITCHES = ("second_pair", "tell_back", "hidden_link")  # settings of the workspace that stand on the frame's page


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/campaigns/<int:id>/preview", m.Preview)
    def preview(id: int) -> m.Preview:
        """The message as one person would get it (query ``subscriber`` or ``email``; else the first recipient), in one
        of its versions (query ``version``); and what some mail readers do not keep of it."""
        a = request.args
        row = campaigns.row_of(desk, id)
        found = previews.of(desk, row, a.get("subscriber", 0, int), a.get("email", ""), a.get("version", 0, int))
        return m.Preview(
            subject=found.said.subject,
            preview=found.preview,
            html=found.said.html,
            plain=found.said.plain,
            person=found.email,
            subscriber=found.subscriber,
            values=[m.FieldValue(field=f, value=v) for f, v in found.values.items()],
            problems=list(found.problems),
            hosted=list(found.hosted),
            support=[m.Support(**s) for s in support.dropped(found.said.html)],
        )

    @api.route("GET", "/templates", m.Templates)
    def every() -> m.Templates:
        """Every template."""
        rows = writing.templates(desk.store.read())
        return m.Templates(
            templates=[
                m.Template(**{f: r[f] for f in ("id", "name", "subject", "made_at", "who")}, by_blocks=bool(r["blocks"]))
                for r in rows
            ]
        )

    @api.route("POST", "/campaigns/<int:id>/template", m.Done, body=m.NameIn, rights=WRITE)
    def save(id: int, body: m.NameIn) -> m.Done:
        """Keep the message as a template."""
        return m.Done(id=templates.save(desk, campaigns.row_of(desk, id), body.name, who()))

    @api.route("DELETE", "/templates/<int:id>", m.Done, rights=WRITE)
    def remove(id: int) -> m.Done:
        """Remove a template; campaigns begun from it keep what they say."""
        templates.remove(desk, id, who())
        return m.Done(id=id)

    @api.route("GET", "/pictures", m.Pictures)
    def every_picture() -> m.Pictures:
        """Every picture, the latest first."""
        return m.Pictures(pictures=[m.Picture(**p) for p in pictures.every(desk)])

    @api.route("POST", "/pictures", m.Picture, rights=WRITE)
    def take() -> m.Picture:
        """Keep a picture (multipart field ``file``): PNG, JPEG or GIF, up to 2 MB."""
        file = request.files.get("file")
        if file is None or not file.filename:
            raise Refused("Choose a picture first.")
        with closing(file.stream) as stream:
            data = stream.read(pictures.MOST_BYTES + 1)
        return m.Picture(**pictures.take(desk, file.filename, data, who()))

    def the_frame() -> m.Frame:
        return m.Frame.model_validate(templates.frame(desk) | {s: desk.setting(s) for s in SWITCHES})

    @api.route("GET", "/frame", m.Frame)
    def frame() -> m.Frame:
        """What stands around every message that is written by blocks, and the postal address."""
        return the_frame()

    @api.route("PUT", "/frame", m.Frame, body=m.Frame, rights=ANALYSE)
    def set_frame(body: m.Frame) -> m.Frame:
        """Another frame; drafts get it at once, what was sent stays as it was."""
        templates.set_frame(desk, body.model_dump(exclude=set(SWITCHES)), who())
        with desk.store.atomic() as db:
            for switch in SWITCHES:
                workspace.set_setting(db, switch, getattr(body, switch))
        return the_frame()
