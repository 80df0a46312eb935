"""Pre-send checks of a campaign: what stops it, what is better fixed, what is good to know, and where to fix it."""

from __future__ import annotations

from openmeadow.core.authentication import dkim, dmarc
from openmeadow.core.message import lint as message_checks
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.html_scan import template_parts
from openmeadow.core.message.personalisation import Body, FieldMistake, check_fields, links
from openmeadow.core.moments import DAY
from openmeadow.net import link_checker as web
from openmeadow.services import models
from openmeadow.services.campaigns import approval, message_conditions
from openmeadow.services.campaigns.findings import Finding, found, in_order
from openmeadow.services.senders import domains
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, content
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.health import health
from openmeadow.store.subscribers import consent, fields

PERSONAL = {"name", "first_name", "email"}
PAGES = {"preferences_url", "stay_url", "view_url"}  # addresses of pages of ours, for this person
ANSWER_AGE = DAY


def without_fields(text: str) -> str:
    """A text with its merge fields filled in by something short, addresses by one that leads nowhere else."""
    out, at = [], 0
    for part in template_parts(text):
        before, after = text[at : part.start].rstrip(), part.end
        while text[after : after + 1].isspace():
            after += 1
        quote = before[-1:]
        alone = quote and quote in "\"'" and text[after : after + 1] == quote
        if alone and part.is_value and '"' not in part.text and "'" not in part.text:
            out += [before[:-1], '"tel:0"']
            at = after + 1
        else:
            out += [text[at : part.start], "Name"]
            at = part.end
    return "".join([*out, text[at:]])


def known_fields(workspace: Workspace, row: Campaign) -> set[str]:
    """The merge fields a campaign's text may use."""
    own = set(fields.names(workspace.store.read()))
    return PERSONAL | PAGES | own | set(asked_about(workspace, row))


def asked_about(workspace: Workspace, row: Campaign) -> dict[str, tuple[int, str]]:
    """What a consent request asks: field name -> (purpose, its name)."""
    ids = {p.name: p.id for p in consent.purposes(workspace.store.read())}
    return {f"agree_{ids[name]}": (ids[name], name) for name in row.asks if name in ids}


def _said(workspace: Workspace, row: Campaign) -> list[Finding]:
    """What is missing, and what cannot be filled in."""
    out = []
    for there, check, words in (
        (row.purpose, "Purpose", "Choose a purpose."),
        (row.from_text, "From", "Choose a from address."),
        (row.subject, "Subject", "Write a subject."),
    ):
        if not there:
            out.append(Finding(check, "blocker", words))
    if not (row.html.strip() or row.plain.strip()):
        out.append(Finding("Message", "blocker", "Write the message."))
    elif not row.html.strip():
        out.append(Finding("Message", "note", "Plain text only: opens cannot be tracked, clicks can."))
    for text in (row.subject, row.html, row.plain):
        out += [
            Finding("Merge fields", "blocker", problem) for problem in check_fields(text, known_fields(workspace, row))
        ]
    out += [Finding("Conditions", "blocker", p.finding) for p in message_conditions.problems(workspace, row)]
    for field, (_, name) in asked_about(workspace, row).items():
        if field not in row.html:
            words = f"The consent link for {name} is missing: add {{{{ {field} }}}} as a link."
            out.append(Finding("Consent", "blocker", words))
    return out


def _sender(workspace: Workspace, row: Campaign) -> list[Finding]:
    if not row.from_text:
        return []
    out = []
    if not row.confirmed_at:
        out.append(found("From", "blocker", f"{row.from_text} is not confirmed. Click the link we sent to it."))
    if alike := domains.looks_like(workspace, row.domain_name or ""):
        words = f"{row.from_text} resembles {alike}; mail clients may flag it."
        out.append(found("From", "warning", words))
    if row.domain_state == "fail":
        out.append(found("Sender", "blocker", f"A DNS record of {row.domain_name} fails."))
    elif row.domain_state != "pass":
        out.append(found("Sender", "warning", f"{row.domain_name}: {row.domain_state}."))
    return out


def as_it_goes(workspace: Workspace, row: Campaign) -> bytes | None:
    """The message as it would be sent, fields filled in, signed; None while it cannot be made."""
    if not row.from_text or not row.private_key or not row.purpose:
        return None
    s = settings.settings(workspace.store.read())
    real = bool(domains.tracking_host(str(s["public_url"])))
    base = str(s["public_url"]).rstrip("/") if real else f"https://{row.domain_name}"
    subject, preview, html, plain = (without_fields(t) for t in (row.subject, row.preview, row.html, row.plain))
    try:
        body = Body(subject, preview, html, plain, str(s["postal_address"]), {})
        said = body.say({}, str, f"{base}/u/x", pages={"preferences_url": f"{base}/p/x"})
    except FieldMistake:
        return None
    envelope = Envelope(
        row.from_name,
        row.from_text,
        f"reader@{row.domain_name}",
        f"<check@{row.domain_name}>",
        workspace.now(),
        f"{row.purpose_name} <purpose-{row.purpose}.{row.domain_name}>",
        f"{base}/u/x",
    )
    raw = assemble(said, envelope)
    return dkim.sign(raw, row.domain_name or "", row.selector, row.private_key, workspace.now())


def _message(workspace: Workspace, row: Campaign) -> list[Finding]:
    """The message as readers and filters will see it; by its parts while there is no sender yet."""
    raw = as_it_goes(workspace, row)
    if raw is not None and (row.html.strip() or row.plain.strip()):
        said = message_checks.of_message(raw, workspace.setting("freemail_domains"))
    else:
        hidden = f'<div style="display:none">{row.preview}</div>' if row.preview else ""
        said = message_checks.of_html(hidden + without_fields(row.html)) if row.html.strip() else []
    if not row.subject:
        said = [c for c in said if c.check != "Subject"]
    elif raw is None:
        said += message_checks.of_subject(without_fields(row.subject))
    out = [found(c.check, c.level, c.finding) for c in said]
    if row.html.strip() and not links(row.html, row.plain):
        out.append(Finding("Links", "note", "There are no links: only opens can be measured."))
    if not workspace.setting("postal_address"):
        out.append(found("Postal address", "warning", "The workspace has no postal address."))
    return out


def _links(workspace: Workspace, row: Campaign) -> list[Finding]:
    """What the links answered when they were last asked."""
    urls = [u for u in links(row.html, row.plain) if "{{" not in u]
    if not urls:
        return []
    answers = content.link_checks(workspace.store.read(), urls)
    fresh = {u: a for u, a in answers.items() if workspace.now() - a.at <= ANSWER_AGE}
    out = []
    for url, a in fresh.items():
        if not 200 <= a.status < 400:
            why = a.said or f"returns status {a.status}"
            out.append(found("Links", "blocker" if a.status in (404, 410) else "warning", f"{url[:80]}: {why}."))
        elif a.said:
            out.append(found("Links", "warning", f"{url[:80]} {a.said}."))
    if len(fresh) < len(urls):
        words = f"{len(urls) - len(fresh)} of {len(urls)} links have not been checked today."
        out.append(found("Links", "note", words, "links"))
    return out


def ask_links(workspace: Workspace, row: Campaign) -> int:
    """Ask every link of the message whether it answers; how many did."""
    urls, good = [u for u in links(row.html, row.plain) if "{{" not in u], 0
    for a in web.ask_all(urls, str(workspace.setting("web_gateway")), list(workspace.setting("inside_hosts"))):
        said = a.said
        if 200 <= a.status < 400:
            good += 1
            here, there = (x.partition("//")[2].partition("/")[0].partition(":")[0] for x in (a.url, a.final))
            said = "" if dmarc.aligned(here, there) else f"redirects to {there}"
        with workspace.store.atomic() as db:
            content.save_link_check(db, a.url, workspace.now(), a.status, said)
    return good


def _placement(workspace: Workspace, row: Campaign) -> list[Finding]:
    if not workspace.setting("seed_mailboxes"):
        return []
    copies = health.tests(workspace.store.read(), row.id)
    if not copies:
        return [found("Placement", "note", "No placement test yet.")]
    latest = [c for c in copies if c.id == copies[0].id]
    if any(c.folder == "waiting" for c in latest):
        return [found("Placement", "note", "Placement test in progress.")]
    wrong = [c.provider for c in latest if c.folder != "inbox"]
    if not wrong:
        return []
    level = "blocker" if len(wrong) == len(latest) else "warning"
    words = f"{len(wrong)} of {len(latest)} test copies did not reach the inbox: {', '.join(sorted(set(wrong)))}."
    return [found("Placement", level, words)]


def _recording(row: Campaign) -> list[Finding]:
    """What is recorded, and what depends on it."""
    opens = bool(row.track_opens) and bool(row.html.strip())
    if not opens and row.plan.resend and row.kind != "consent request":
        words = "Open tracking is off, so it is unknown who did not engage. Turn it on, or turn the resend off."
        if not row.html.strip():
            words = "Opens of plain text cannot be tracked, so it is unknown who did not engage. Turn the resend off."
        return [Finding("Resend", "blocker", words, "schedule")]
    out = []
    if not opens:
        out.append(
            Finding("Tracking", "note", "Open tracking is off: only clicks, replies and bookings count as engagement.")
        )
    if not row.track_clicks:
        out.append(Finding("Tracking", "note", "Click tracking is off."))
    return out


def checks(workspace: Workspace, row: Campaign) -> list[models.Check]:
    """What can be said of a campaign without working out its recipients, stops first; each once."""
    out = _said(workspace, row) + _sender(workspace, row) + _message(workspace, row) + _links(workspace, row)
    out += _placement(workspace, row) + _recording(row)
    some = row.sequence or row.segments_in or row.lists_in
    if not some and not campaigns.people(workspace.store.read(), row.id, "in"):
        out.append(found("Recipients", "blocker", "No recipients selected. Choose a segment or a list."))
    if row.purpose and row.kind == "campaign":
        purpose = next((p for p in consent.purposes(workspace.store.read()) if p.id == row.purpose), None)
        if purpose is not None and not purpose.text:
            out.append(found("Consent wording", "note", f"{row.purpose_name} has no consent wording."))
    if approval.needed(workspace) and row.state == "draft" and not approval.approved(workspace, row):
        lapsed = "It was changed after the approval" if row.approved_as else "Not approved yet"
        out.append(found("Approval", "blocker", f"{lapsed}. Request approval.", "approval"))
    return in_order(workspace, row, out)
