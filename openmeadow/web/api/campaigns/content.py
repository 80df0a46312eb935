"""What campaigns say: previews, templates, images, the workspace's layout."""

from __future__ import annotations

from contextlib import closing

from flask import Response, g

from openmeadow.core.ids import SubscriberId
from openmeadow.core.message import client_support
from openmeadow.services import settings
from openmeadow.services.campaigns import campaigns, images, message_conditions, templates
from openmeadow.services.campaigns import preview as preview_service
from openmeadow.services.campaigns import subject_past as past_of_subjects
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import content
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, WRITE, Routes, file_given, need_proof, who

SWITCHES = (
    "require_approval",
    "conversion_id",
    "hidden_link",
)  # settings of the workspace that stand on the layout's page


routes = Routes()


@routes.route("GET", "/campaigns/<int:id>/preview", m.Preview, query=m.PreviewQuery)
def preview(workspace: Workspace, row_id: int, query: m.PreviewQuery) -> m.Preview:
    """The message as one person would get it (query ``subscriber`` or ``email``; else the first recipient), in one
    of its versions (query ``version``); and what some mail readers do not keep of it."""
    row = campaigns.row_of(workspace, row_id)
    found = preview_service.of(workspace, row, SubscriberId(query.subscriber), query.email, query.version)
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
        support=[m.Support.read_from(s) for s in client_support.dropped(found.said.html)],
    )


@routes.route("POST", "/campaigns/<int:id>/shown-to", m.ShownTo, body=m.RuleIn)
def shown_to(workspace: Workspace, row_id: int, body: m.RuleIn) -> m.ShownTo:
    """How many of the recipients see a part that is shown by this rule."""
    return message_conditions.shown_to(workspace, campaigns.row_of(workspace, row_id), body.rule)


@routes.route("GET", "/subject-past", m.SubjectPast, query=m.SubjectQuery)
def subject_past(workspace: Workspace, query: m.SubjectQuery) -> m.SubjectPast:
    """How settled mailings with the traits of this subject did beside those without."""
    return past_of_subjects.of(workspace, query.subject)


@routes.route("GET", "/templates", m.Templates)
def every(workspace: Workspace) -> m.Templates:
    """Every template."""
    rows = content.templates(workspace.store.read())
    return m.Templates(
        templates=[
            m.Template(id=r.id, name=r.name, subject=r.subject, made_at=r.made_at, who=r.who, by_blocks=bool(r.blocks))
            for r in rows
        ]
    )


@routes.route("POST", "/campaigns/<int:id>/template", m.Done, body=m.NameIn, rights=WRITE)
def save(workspace: Workspace, row_id: int, body: m.NameIn) -> m.Done:
    """Keep the message as a template."""
    return m.Done(id=templates.save(workspace, campaigns.row_of(workspace, row_id), body.name, who()))


@routes.route("DELETE", "/templates/<int:id>", m.Done, rights=WRITE)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Remove a template; campaigns begun from it keep what they say."""
    templates.remove(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("GET", "/images", m.Images)
def every_image(workspace: Workspace) -> m.Images:
    """Every image, the latest first."""
    return m.Images(images=images.every(workspace))


@routes.route("POST", "/images", m.Image, upload=m.JustFile, rights=WRITE)
def take(workspace: Workspace, form: m.JustFile) -> m.Image:
    """Keep a image (multipart field ``file``): PNG, JPEG or GIF, up to 2 MB."""
    file = file_given()
    with closing(file.stream) as stream:
        data = stream.read(images.MOST_BYTES + 1)
    return images.take(workspace, file.filename or "", data, who())


def get_layout(workspace: Workspace) -> m.Layout:
    """The layout that messages stand in."""
    return m.Layout.model_validate(templates.layout(workspace) | {s: workspace.setting(s) for s in SWITCHES})


@routes.route("GET", "/layout", m.Layout)
def layout(workspace: Workspace) -> m.Layout:
    """What stands around every message that is written by blocks, and the postal address."""
    return get_layout(workspace)


@routes.route("PUT", "/layout", m.Layout, body=m.Layout, rights=ANALYSE)
def set_layout(workspace: Workspace, body: m.Layout) -> m.Layout | Response:
    """Another layout; drafts get it at once, what was sent stays as it was."""
    switches = {switch: getattr(body, switch) for switch in SWITCHES}
    if settings.weakens(workspace, switches) and (refusal := need_proof(workspace)) is not None:
        return refusal
    templates.set_layout(workspace, body.model_dump(exclude=set(SWITCHES)), who())
    settings.change(workspace, switches, who(), g.user.id)
    return get_layout(workspace)
