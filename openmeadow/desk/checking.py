"""Pre-send checks of a campaign: what stops it, what is better mended, what is good to know, and where to mend it."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from typing import Any

from openmeadow.core.authentication import dkim, dmarc
from openmeadow.core.errors import Refused
from openmeadow.core.message import checks as message_checks
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Body, FieldMistake, check_fields, links
from openmeadow.core.message.html_scan import template_parts
from openmeadow.desk import approving, conditions, senders
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, consent, health, workspace, writing
from openmeadow.wire import links as web

PERSONAL = {"name", "first_name", "email"}
PAGES = {"preferences_url", "stay_url", "view_url"}  # addresses of pages of ours, for this person
LEVELS = ("stop", "mend", "note")
ANSWER_AGE = 86_400
# what the analyst may overrule with a reason; every other stop is set by the law, the gate or the protocols
MAY_OVERRULE = {"Links", "Pictures", "HTML", "Size", "Placement", "Subject"}
WHERE = {
    "Sender": "senders",
    "From": "senders",
    "Links": "message",
    "Purpose": "message",
    "Recipients": "recipients",
    "Postal address": "settings",
    "Placement": "placement",
    "Addresses": "addresses",
    "Consent wording": "consent",
}


@dataclass(frozen=True)
class Finding:
    """``mend`` is the page it is mended on; ``may_overrule`` whether a reason in writing is enough for a stop."""

    check: str
    level: str
    finding: str
    mend: str = "message"
    may_overrule: bool = False
    overruled: str = ""


def found(check: str, level: str, finding: str, mend: str = "") -> Finding:
    return Finding(check, level, finding, mend or WHERE.get(check, "message"), check in MAY_OVERRULE and level == "stop")


def without_fields(text: str) -> str:
    """A text with its personal fields filled in by something short, addresses by one that leads nowhere else."""
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


def known_fields(desk: Desk, row: Any) -> set[str]:
    """The personal fields a campaign's text may use."""
    own = {r["name"] for r in desk.store.read().execute("SELECT name FROM field_names")}
    return PERSONAL | PAGES | own | set(asked_about(desk, row))


def asked_about(desk: Desk, row: Any) -> dict[str, tuple[int, str]]:
    """What a consent request asks: field name -> (purpose, its name)."""
    ids = {p["name"]: p["id"] for p in consent.purposes(desk.store.read())}
    return {f"agree_{ids[name]}": (ids[name], name) for name in json.loads(row["asks"]) if name in ids}


def _said(desk: Desk, row: Any) -> list[Finding]:
    """What is missing, and what cannot be filled in."""
    out = []
    for name, check, words in (
        ("purpose", "Purpose", "Say what this mail is about: choose a purpose."),
        ("from_text", "From", "Choose a from-address."),
        ("subject", "Subject", "Write a subject."),
    ):
        if not row[name]:
            out.append(Finding(check, "stop", words))
    if not (row["html"].strip() or row["plain"].strip()):
        out.append(Finding("Message", "stop", "Write the message."))
    elif not row["html"].strip():
        out.append(Finding("Message", "note", "It is plain text only, so opens cannot be seen; clicks can."))
    for text in (row["subject"], row["html"], row["plain"]):
        out += [Finding("Personal fields", "stop", problem) for problem in check_fields(text, known_fields(desk, row))]
    out += [Finding("Conditions", "stop", p.finding) for p in conditions.problems(desk, row)]
    for field, (_, name) in asked_about(desk, row).items():
        if field not in row["html"]:
            words = f"Nothing in the message says yes to {name}: put {{{{ {field} }}}} as a link."
            out.append(Finding("Consent", "stop", words))
    return out


def _sender(desk: Desk, row: Any) -> list[Finding]:
    if not row["from_text"]:
        return []
    out = []
    if not row["confirmed_at"]:
        out.append(found("From", "stop", f"{row['from_text']} has not been confirmed; press the link mailed to it."))
    if alike := senders.looks_like(desk, row["domain_name"]):
        words = f"{row['from_text']} looks like {alike} and is not; readers are warned of such names."
        out.append(found("From", "mend", words))
    if row["domain_state"] == "broken":
        out.append(found("Sender", "stop", f"A record of {row['domain_name']} is broken."))
    elif row["domain_state"] != "holds":
        out.append(found("Sender", "mend", f"{row['domain_name']}: {row['domain_state']}."))
    return out


def as_it_goes(desk: Desk, row: Any) -> bytes | None:
    """The message as it would be handed over, fields filled in, signed; None while it cannot be made."""
    if not row["from_text"] or not row["private_key"] or not row["purpose"]:
        return None
    s = workspace.settings(desk.store.read())
    real = bool(senders.tracking_host(str(s["public_url"])))
    base = str(s["public_url"]).rstrip("/") if real else f"https://{row['domain_name']}"
    subject, preview, html, plain = (without_fields(row[t]) for t in ("subject", "preview", "html", "plain"))
    try:
        body = Body(subject, preview, html, plain, str(s["postal_address"]), {})
        said = body.say({}, str, f"{base}/u/x", pages={"preferences_url": f"{base}/p/x"})
    except FieldMistake:
        return None
    envelope = Envelope(
        row["from_name"],
        row["from_text"],
        f"reader@{row['domain_name']}",
        f"<check@{row['domain_name']}>",
        desk.now(),
        f"{row['purpose_name']} <purpose-{row['purpose']}.{row['domain_name']}>",
        f"{base}/u/x",
    )
    raw = assemble(said, envelope)
    return dkim.Signer(row["domain_name"], row["selector"], row["private_key"]).header(raw, desk.now()) + raw


def _message(desk: Desk, row: Any) -> list[Finding]:
    """The message as readers and filters will see it; by its parts while there is no sender yet."""
    raw = as_it_goes(desk, row)
    if raw is not None and (row["html"].strip() or row["plain"].strip()):
        said = message_checks.of_message(raw, desk.setting("freemail_domains"))
    else:
        hidden = f'<div style="display:none">{row["preview"]}</div>' if row["preview"] else ""
        said = message_checks.of_html(hidden + without_fields(row["html"])) if row["html"].strip() else []
    if not row["subject"]:
        said = [c for c in said if c.check != "Subject"]
    elif raw is None:
        said += message_checks.of_subject(without_fields(row["subject"]))
    out = [found(c.check, c.level, c.finding) for c in said]
    if row["html"].strip() and not links(row["html"]):
        out.append(Finding("Links", "note", "There is no link, so an open is the only answer that can be seen."))
    if not desk.setting("postal_address"):
        out.append(found("Postal address", "mend", "No postal address is set for the workspace."))
    return out


def _links(desk: Desk, row: Any) -> list[Finding]:
    """What the links answered when they were last asked."""
    urls = [u for u in links(row["html"]) if "{{" not in u]
    if not urls:
        return []
    answers = writing.link_answers(desk.store.read(), urls)
    fresh = {u: a for u, a in answers.items() if desk.now() - a["at"] <= ANSWER_AGE}
    out = []
    for url, a in fresh.items():
        if not 200 <= a["status"] < 400:
            why = a["said"] or f"answers {a['status']}"
            out.append(found("Links", "stop" if a["status"] in (404, 410) else "mend", f"{url[:80]}: {why}."))
        elif a["said"]:
            out.append(found("Links", "mend", f"{url[:80]} {a['said']}."))
    if len(fresh) < len(urls):
        words = f"{len(urls) - len(fresh)} of {len(urls)} have not been asked today whether they answer."
        out.append(found("Links", "note", words, "links"))
    return out


def ask_links(desk: Desk, row: Any) -> int:
    """Ask every link of the message whether it answers; how many did."""
    urls, good = [u for u in links(row["html"]) if "{{" not in u], 0
    for a in web.ask_all(urls, str(desk.setting("web_gateway")), list(desk.setting("inside_hosts"))):
        said = a.said
        if 200 <= a.status < 400:
            good += 1
            here, there = (x.partition("//")[2].partition("/")[0].partition(":")[0] for x in (a.url, a.final))
            said = "" if dmarc.aligned(here, there) else f"leads on to {there}"
        with desk.store.atomic() as db:
            writing.keep_link_answer(db, a.url, desk.now(), a.status, said)
    return good


def _placement(desk: Desk, row: Any) -> list[Finding]:
    if not desk.setting("placement_boxes"):
        return []
    copies = health.tests(desk.store.read(), row["id"])
    if not copies:
        return [found("Placement", "note", "Not tried yet where it lands.")]
    latest = [c for c in copies if c["id"] == copies[0]["id"]]
    if any(c["folder"] == "waiting" for c in latest):
        return [found("Placement", "note", "Copies are under way to the test mailboxes.")]
    wrong = [c["provider"] for c in latest if c["folder"] != "inbox"]
    if not wrong:
        return []
    level = "stop" if len(wrong) == len(latest) else "mend"
    words = f"{len(wrong)} of {len(latest)} test copies did not reach the inbox: {', '.join(sorted(set(wrong)))}."
    return [found("Placement", level, words)]


def _recording(row: Any) -> list[Finding]:
    """What is recorded, and what depends on it."""
    opens = bool(row["record_opens"]) and bool(row["html"].strip())
    plan = json.loads(row["plan"])
    if not opens and plan.get("resend", True) and row["kind"] != "consent request":
        words = "Opens are not recorded, so nobody knows who left it unanswered: switch the resend off, or record opens."
        return [Finding("Resend", "stop", words, "plan")]
    out = []
    if not opens:
        out.append(Finding("Recording", "note", "Opens are not recorded: only clicks, replies and bookings are answers."))
    if not row["record_clicks"]:
        out.append(Finding("Recording", "note", "Clicks are not recorded: links lead straight to where they say."))
    return out


def checks(desk: Desk, row: Any) -> list[dict[str, Any]]:
    """What can be said of a campaign without working out its recipients, stops first; each once."""
    out = _said(desk, row) + _sender(desk, row) + _message(desk, row) + _links(desk, row)
    out += _placement(desk, row) + _recording(row)
    some = row["sequence"] or any(json.loads(row[f"{what}_in"]) for what in ("segments", "lists"))
    if not some and not campaigns.people(desk.store.read(), row["id"], "in"):
        out.append(found("Recipients", "stop", "Nobody is chosen: take a segment or a list."))
    if row["purpose"] and row["kind"] == "campaign":
        purpose = next((p for p in consent.purposes(desk.store.read()) if p["id"] == row["purpose"]), None)
        if purpose is not None and not purpose["text"]:
            out.append(found("Consent wording", "note", f"{row['purpose_name']} has no wording that people agreed to."))
    if approving.needed(desk) and row["state"] == "draft" and not approving.approved(desk, row):
        lapsed = "It was changed after it was approved" if row["approved_as"] else "Nobody else has approved it yet"
        out.append(found("Second pair of eyes", "stop", f"{lapsed}; ask somebody to look at it.", "approval"))
    return in_order(desk, row, out)


def in_order(desk: Desk, row: Any, out: list[Finding]) -> list[dict[str, Any]]:
    """Stops first, each once; what was overruled says by whom and why, and stops no more."""
    over = writing.overrules(desk.store.read(), row["id"])
    lines = []
    for f in sorted(dict.fromkeys(out), key=lambda f: LEVELS.index(f.level)):
        line = asdict(f)
        if (o := over.get((f.check, f.finding))) is not None and f.may_overrule:
            line |= {"overruled": f"{o['who']}: {o['reason']}"}
        lines.append(line)
    return lines


def stops(found: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Those that keep the plan from starting."""
    return [c for c in found if c["level"] == "stop" and not c["overruled"]]


def overrule(desk: Desk, row: Any, check: str, finding: str, reason: str, who: str) -> None:
    """Set a stop aside with a written reason; "" takes that back. What law, gate or protocol sets cannot be."""
    from openmeadow.desk.audience import thorough

    stop = next((c for c in thorough(desk, row) if (c["check"], c["finding"]) == (check, finding)), None)
    if stop is None:
        raise Refused("This is not found any more; look at the checks again.")
    if not stop["may_overrule"]:
        raise Refused(f"{check}: this stop cannot be overruled; mend it.")
    with desk.store.atomic() as db:
        if reason.strip():
            writing.overrule(db, row["id"], check, finding, reason.strip(), who, desk.now())
            workspace.log(db, desk.now(), who, f"overruled a stop ({check}): {reason.strip()[:200]}", row["name"])
        else:
            writing.take_overrule_back(db, row["id"], check, finding)
