"""What campaigns say: previews, templates, pictures, the workspace's frame."""

from __future__ import annotations

from contextlib import closing

from flask import Response, g

from openmeadow.core.message import support
from openmeadow.desk import campaigns, pictures, previews, settings, templates
from openmeadow.desk.desk import Desk
from openmeadow.store import writing
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, WRITE, Described, file_given, need_proof, who

SWITCHES = ("second_pair", "tell_back", "hidden_link")  # settings of the workspace that stand on the frame's page


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/campaigns/<int:id>/preview", m.Preview, query=m.PreviewQuery)
    def preview(id: int, query: m.PreviewQuery) -> m.Preview:
        """The message as one person would get it (query ``subscriber`` or ``email``; else the first recipient), in one
        of its versions (query ``version``); and what some mail readers do not keep of it."""
        row = campaigns.row_of(desk, id)
        found = previews.of(desk, row, query.subscriber, query.email, query.version)
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

    @api.route("POST", "/pictures", m.Picture, upload=m.JustFile, rights=WRITE)
    def take(form: m.JustFile) -> m.Picture:
        """Keep a picture (multipart field ``file``): PNG, JPEG or GIF, up to 2 MB."""
        file = file_given()
        with closing(file.stream) as stream:
            data = stream.read(pictures.MOST_BYTES + 1)
        return m.Picture(**pictures.take(desk, file.filename or "", data, who()))

    def the_frame() -> m.Frame:
        return m.Frame.model_validate(templates.frame(desk) | {s: desk.setting(s) for s in SWITCHES})

    @api.route("GET", "/frame", m.Frame)
    def frame() -> m.Frame:
        """What stands around every message that is written by blocks, and the postal address."""
        return the_frame()

    @api.route("PUT", "/frame", m.Frame, body=m.Frame, rights=ANALYSE)
    def set_frame(body: m.Frame) -> m.Frame | Response:
        """Another frame; drafts get it at once, what was sent stays as it was."""
        switches = {switch: getattr(body, switch) for switch in SWITCHES}
        if settings.weakens(desk, switches) and (refusal := need_proof(desk)) is not None:
            return refusal
        templates.set_frame(desk, body.model_dump(exclude=set(SWITCHES)), who())
        settings.change(desk, switches, who(), g.user.id)
        return the_frame()
