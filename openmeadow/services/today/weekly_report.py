"""A report of the week's campaigns, mailed to colleagues on Monday morning where that is wished."""

from __future__ import annotations

from datetime import UTC, datetime

from openmeadow.core.errors import MeadowError
from openmeadow.core.moments import DAY
from openmeadow.services import models
from openmeadow.services.campaigns import campaign_list
from openmeadow.services.subscribers import own_mail
from openmeadow.services.today import overview
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings

SENT, HOUR_OF_DAY, MONDAY = "weekly_report_sent", 8, 0


def text(workspace: Workspace) -> str:
    """The report of the last seven days: each campaign with its figures and their base, and what needs a decision."""
    now, url = workspace.now(), workspace.setting("public_url")
    lines = [c for c in campaign_list.lines(workspace) if c.started_at and now - 7 * DAY < c.started_at <= now]
    out = [f"{workspace.setting('name')}: campaigns of the last seven days", ""]
    for c in lines:
        out += [c.name, f"  {_figures(c)}", f"  {url}/campaigns/{c.id}/results", ""]
    if not lines:
        out += ["No campaign was started.", ""]
    open_ones = overview.decisions(workspace, workspace.view())
    out.append("Needs a decision:" if open_ones else "Nothing needs a decision.")
    out += [f"- {d.title}" for d in open_ones]
    return "\n".join(out) + "\n"


def _figures(c: models.CampaignLine) -> str:
    if not c.delivered:
        return f"{c.people:,} recipients, nothing delivered yet"
    said = f"{c.delivered:,} delivered, opened by {c.opened:,} ({c.opened / c.delivered:.1%}), clicked by {c.clicked:,}"
    if not c.expected or c.engaged is None:
        return f"{said}; engagement is still coming in"
    return f"{said}; {c.engaged:,} engaged, {c.expected:,.0f} expected"


def tend(workspace: Workspace) -> int:
    """Mail the report once a week, from Monday morning on in the workspace's zone; how many got it."""
    to = [str(a) for a in workspace.setting("report_to")]
    local = datetime.fromtimestamp(workspace.now(), UTC).astimezone(workspace.zone)
    week = "-".join(map(str, local.isocalendar()[:2]))
    if not to or (local.weekday() == MONDAY and local.hour < HOUR_OF_DAY) or workspace.setting(SENT) in ("", week):
        if to and workspace.setting(SENT) == "":  # wished for the first time: from next week on
            _keep(workspace, week)
        return 0
    report, taken = text(workspace), 0
    _keep(workspace, week)  # once, whatever becomes of it
    for address in to:
        try:
            taken += own_mail.send_text(workspace, address, f"Campaigns of the week: {workspace.setting('name')}", report)
        except MeadowError:
            continue
    return taken


def _keep(workspace: Workspace, week: str) -> None:
    with workspace.store.atomic() as db:
        settings.set_setting(db, SENT, week)
