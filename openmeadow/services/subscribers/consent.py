"""Consent as a whole: purposes and their wordings, words by hand and by the person, evidence checked and exported,
suppressions looked at and lifted."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

from openmeadow.core.consent.eligibility import CONSENT_STATES, GIVEN, PENDING, SUPPRESSION_REASONS, WITHDRAWN
from openmeadow.core.consent.evidence import Broken, Shown, text_hash, verify
from openmeadow.core.errors import CannotOpen, Missing, Refused
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.services import models
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns.delivery_records import CampaignDelivery
from openmeadow.store.rows import SqlValue
from openmeadow.store.segments.renaming import purpose_renamed
from openmeadow.store.subscribers import consent, subscribers
from openmeadow.store.subscribers.consent import Claim
from openmeadow.store.subscribers.records import SealedEntry

BASES = ("consent", "contract", "legitimate interest")
LIFTABLE = ("hard bounce", "bad address", "other")
BY_NEW_CONSENT = ("complaint", "unsubscribed from all", "inactive")
EXPORTED = (
    *("at", "email", "purpose", "channel", "state", "method", "source", "wording", "wording_id", "wording_sha256"),
    *("wording_text", "form", "page", "reason", "list", "void", "before"),
)
LONGEST_PAGE = 300  # characters of a page's address
UNPROVED = "form"  # a form without a second step: anybody could have typed the address
SOFT_IN_A_ROW, SOFT_OVER = 5, 30 * DAY


def codes(reasons: tuple[str, ...]) -> list[int]:
    """Reasons of suppression as they are kept."""
    return [1 + SUPPRESSION_REASONS.index(r) for r in reasons]


def check_evidence(workspace: Workspace) -> models.Evidence:
    """Goes through the whole chain."""
    db = workspace.store.read()
    entries, broken = verify(consent.key(db), consent.chain(db), *consent.head(db))
    if broken is None and (found := consent.changed_wording(db)) is not None:
        broken = Broken(found[0], f"the text of “{found[1]}” was changed after people had agreed to it")
    return models.Evidence(
        entries=entries,
        verified=broken is None,
        broken_at=broken.number if broken else None,
        what=broken.what if broken else "",
    )


def _line(r: SealedEntry) -> list[str]:
    return [
        rfc3339(r.at),
        r.email or "",
        r.purpose_name,
        r.channel,
        CONSENT_STATES[r.state],
        r.method,
        r.source or "",
        r.wording or "",
        str(r.wording_id or ""),
        r.wording_hash or "",
        r.wording_text or "",
        str(r.form or ""),
        r.page or "",
        r.reason or "",
        r.list_name or "",
        "of an undone import" if r.void else "",
        r.before or "",
    ]


def export(workspace: Workspace, out: Path, subscriber: SubscriberId | None, who: str) -> int:
    """The evidence of one person or of everybody, as .csv or .ndjson; how many entries."""
    n = 0
    try:
        with out.open("w", encoding="utf-8", newline="") as f:
            writer = csv.writer(f)
            if out.suffix != ".ndjson":
                writer.writerow(EXPORTED)
            for n, r in enumerate(consent.entries(workspace.store.read(), subscriber), start=1):  # noqa: B007
                line = _line(r)
                if out.suffix == ".ndjson":
                    f.write(json.dumps(dict(zip(EXPORTED, line, strict=True)), ensure_ascii=False) + "\n")
                else:
                    writer.writerow([safe(c) for c in line])
    except OSError as e:
        raise CannotOpen(f"The file {out} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    with workspace.store.atomic() as db:
        whose = "all subscribers" if subscriber is None else f"subscriber {subscriber}"
        settings.log(db, workspace.now(), who, "exported consent", whose, n)
    return n


def purposes(workspace: Workspace) -> list[models.Purpose]:
    """Every purpose with its wording, and how many people stand where, by email."""
    view, out = workspace.view(), []
    for p in consent.purposes(workspace.store.read()):
        states = view.facts.consent(p.name)  # type: ignore[attr-defined]
        out.append(
            models.Purpose(
                id=p.id,
                name=p.name,
                basis=p.basis,
                transactional=bool(p.transactional),
                retired=bool(p.retired),
                version=p.version or 0,
                wording_id=p.wording_id,
                text=p.text or "",
                counts=models.StateCounts(
                    **{word: int((view.alive & (states == i)).sum()) for i, word in enumerate(CONSENT_STATES)}
                ),
                permitted=int((view.alive & view.facts.permitted(p.name)).sum()),
            )
        )
    return out


def write_purpose(workspace: Workspace, row_id: PurposeId | None, values: models.PurposeChanges, who: str) -> int:
    """Make or change a purpose. A wording is never edited: another text is another version, and all can be read for
    good."""
    name, basis, text = values.get("name", "").strip(), values.get("basis", BASES[0]), values.get("text")
    if row_id is None and not name:
        raise Refused("A purpose needs a name, for example: Season news.")
    if basis not in BASES:
        raise Refused(f"A legal basis is one of {', '.join(BASES)}.")
    with workspace.store.atomic() as db:
        if row_id is None:
            found, made = subscribers.named(db, "purposes", name)
            row_id = PurposeId(found)
            if not made:
                raise Refused(f"There is already a purpose “{name}”.")
        row = consent.purpose(db, row_id)
        if row is None:
            raise Missing("This purpose does not exist.")
        if name and any(p.name.lower() == name.lower() and p.id != row_id for p in consent.purposes(db)):
            raise Refused(f"There is already a purpose “{name}”.")
        changes: dict[str, SqlValue] = {"name": name} if name else {}
        if "basis" in values:
            changes["basis"] = basis
        if "transactional" in values:
            changes["transactional"] = values["transactional"]
        if "retired" in values:
            changes["retired"] = values["retired"]
        consent.set_purpose(db, row_id, changes)
        if name and name != row.name:
            purpose_renamed(db, row.name, name)
        if text is not None and text.strip() != (row.text or ""):
            consent.add_wording(db, row_id, text.strip(), workspace.now())
        settings.log(db, workspace.now(), who, "changed purpose", name or row.name)
    return row_id


def wording_name(purpose: str, version: int) -> str:
    """How entries name a wording."""
    return f"{purpose}, version {version}"


def what_was_shown(
    workspace: Workspace, purpose: PurposeId, wording: int | None, form: int | None = None, page: str = ""
) -> tuple[str | None, Shown]:
    """The name of a wording that was shown, and what an entry keeps of it. One of another purpose was not shown."""
    db = workspace.store.read()
    row, owner = consent.wording(db, wording) if wording else None, consent.purpose(db, purpose)
    if row is None or owner is None or row.purpose != purpose:
        return None, Shown(form=form, page=page[:LONGEST_PAGE] or None)
    shown = Shown(row.id, text_hash(row.text), form, page[:LONGEST_PAGE] or None)
    return wording_name(owner.name, row.version), shown


def wordings(workspace: Workspace, purpose: PurposeId) -> list[models.WordingLine]:
    """Every version of a purpose's wording with the people who agreed to it, the newest first."""
    if consent.purpose(workspace.store.read(), purpose) is None:
        raise Missing("This purpose does not exist.")
    rows = consent.wordings(workspace.store.read(), purpose)
    return [models.WordingLine.read_from(r) for r in rows]


def by_hand(
    workspace: Workspace, subscriber: SubscriberId, purpose: PurposeId, state: str, reason: str, who: str
) -> None:
    """Write down what somebody said in person. Needs the reason; a yes also lifts what only a new consent lifts."""
    if state not in ("given", "withdrawn"):
        raise Refused("Choose given or withdrawn.")
    if not reason.strip():
        raise Refused("Enter the evidence, for example: said so at the box office on 3 March.")
    _said(workspace, subscriber, purpose, CONSENT_STATES.index(state), "by hand", who, reason=reason.strip())


def said(
    workspace: Workspace,
    subscriber: SubscriberId,
    purpose: PurposeId,
    state: int,
    method: str,
    list_id: int | None = None,
    *,
    wording: int | None = None,
    form: int | None = None,
    page: str = "",
) -> None:
    """The person's own word, by the confirmation link, the preference page or a form. ``wording`` is the id of the text
    that stood there when they said it, None where none did."""
    shown = what_was_shown(workspace, purpose, wording, form, page) if state in (GIVEN, PENDING) else (None, Shown())
    _said(workspace, subscriber, purpose, state, method, "the subscriber", list_id=list_id, shown=shown)


def _said(
    workspace: Workspace,
    subscriber: SubscriberId,
    purpose: PurposeId,
    state: int,
    method: str,
    who: str,
    *,
    reason: str | None = None,
    list_id: int | None = None,
    shown: tuple[str | None, Shown] = (None, Shown()),
) -> None:
    row = subscribers.subscriber(workspace.store.read(), subscriber)
    if row is None or row.erased_at:
        raise Missing("This subscriber does not exist.")
    if consent.purpose(workspace.store.read(), purpose) is None:
        raise Missing("This purpose does not exist.")
    with workspace.store.atomic() as db:
        now = workspace.now()
        new = consent.add(
            db,
            [
                Claim(
                    subscriber,
                    purpose,
                    state,
                    now,
                    method=method,
                    source=method,
                    wording=shown[0],
                    reason=reason,
                    list=list_id,
                    live=True,
                    shown=shown[1],
                )
            ],
        )
        if new and state == GIVEN and method != UNPROVED:
            consent.lift(db, subscriber, codes(BY_NEW_CONSENT))
        if new:
            word = CONSENT_STATES[state]
            settings.log(db, now, who, f"consent {word} by {method}", f"subscriber {subscriber}", 1)


def stop_everything(workspace: Workspace, subscriber: SubscriberId, method: str) -> None:
    """All off: every purpose is withdrawn and nothing is mailed any more."""
    db = workspace.store.read()
    names = {p.id: p.name for p in consent.purposes(db)}
    for row_id in names:
        said(workspace, subscriber, row_id, WITHDRAWN, method)
    with workspace.store.atomic() as w:
        subscribers.add_suppressions(
            w, [(subscriber, 1 + SUPPRESSION_REASONS.index("unsubscribed from all"), workspace.now(), method, None)]
        )


def prefer(workspace: Workspace, subscriber: SubscriberId, at_most: str | None, pause_days: int) -> None:
    """Fewer messages (at most one a week or month) or a pause of so many days; None and 0 take it back."""
    if at_most not in (None, "week", "month"):
        raise Refused("The limit is one a week or one a month.")
    until = workspace.now() + pause_days * DAY if pause_days else None
    with workspace.store.atomic() as db:
        consent.prefer(db, subscriber, at_most, until)


def suppression_list(workspace: Workspace, offset: int = 0, limit: int = 100, reason: str = "") -> models.SuppressionList:
    """{"counts": by reason, "rows": a page of them, or of those for one reason, the newest first}."""
    db = workspace.store.read()
    if reason and reason not in SUPPRESSION_REASONS:
        raise Refused(f"“{reason}” is not a reason of the suppression list.")
    only = codes((reason,))[0] if reason else None
    counts = consent.suppression_counts(db)
    return models.SuppressionList(
        counts=[models.Exclusion(words=r, count=counts.get(i + 1, 0)) for i, r in enumerate(SUPPRESSION_REASONS)],
        rows=[
            models.SuppressedRow(
                subscriber=r.subscriber,
                email=r.email,
                reason=SUPPRESSION_REASONS[r.reason - 1],
                at=r.at,
                source=r.source,
                liftable=SUPPRESSION_REASONS[r.reason - 1] in LIFTABLE,
            )
            for r in consent.suppressed(db, limit, offset, only)
        ],
        total=sum(counts.values()),
    )


def suppressions_csv(workspace: Workspace, who: str) -> str:
    """The whole suppression list: address, reason, since when, by what; in the columns that an import reads."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("email", "suppressed", "suppressed_at", "source"))
    rows = consent.suppressed(workspace.store.read(), -1)
    for r in rows:
        cells = (r.email, SUPPRESSION_REASONS[r.reason - 1], rfc3339(r.at), r.source)
        writer.writerow([safe(c) for c in cells])
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "exported suppressions", "", len(rows))
    return out.getvalue()


def lift(workspace: Workspace, subscriber: SubscriberId, reason: str, why: str, who: str) -> int:
    """Lift a suppression by hand, with a reason. Complaints, unsubscribes and who was suppressed come back by a new consent
    only."""
    if reason in BY_NEW_CONSENT:
        raise Refused(f"“{reason}” can be removed only by a new opt-in of the person.")
    if reason not in LIFTABLE:
        raise Refused(f"“{reason}” is not a reason of the suppression list.")
    if not why.strip():
        raise Refused("Enter a reason, for example: the mailbox works again.")
    with workspace.store.atomic() as db:
        taken = consent.lift(db, subscriber, codes((reason,)))
        if not taken:
            raise Missing("This subscriber is not suppressed for that reason.")
        action = undo_log.begin(db, workspace.now(), who, f"removed suppression {reason}", why.strip(), 1, "lifted")
        undo_log.put_away(db, action, "suppression", [(subscriber, list(t)) for t in taken])
    return action


def suppress_repeated_soft(workspace: Workspace) -> int:
    """Suppress who bounced softly five times in a row over at least 30 days; how many were new."""
    view = workspace.view()
    person, at = view.facts.soft_failures()
    counts = view.mask(workspace.checked_rule(f"soft bounced at least {SOFT_IN_A_ROW} in a row", view))
    rows, new = [], 0
    for p in set(person[counts[person]].tolist()):
        mine = sorted(at[person == p].tolist())[-SOFT_IN_A_ROW:]
        if mine[-1] - mine[0] >= SOFT_OVER:
            row_id = int(view.columns.people.id[p])
            rows.append((row_id, 1 + SUPPRESSION_REASONS.index("bad address"), view.now, "5 soft bounces in a row", None))
    if rows:
        with workspace.store.atomic() as db:
            new = subscribers.add_suppressions(db, rows)
            if new:
                settings.log(db, view.now, "worker", "suppressed after soft bounces", "", new)
    return new


def refuse_request(workspace: Workspace, d: CampaignDelivery) -> None:
    """A no to a consent request is a no to all it asked about."""
    ids = {p.name: p.id for p in consent.purposes(workspace.store.read())}
    for name in d.asks:
        if name in ids and consent.latest(workspace.store.read(), d.subscriber, ids[name]) != WITHDRAWN:
            said(workspace, d.subscriber, ids[name], WITHDRAWN, "unsubscribe link")
