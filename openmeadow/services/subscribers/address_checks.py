"""Address checks: a file of them, or people of the workspace; domains asked once, mail servers asked politely."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from openmeadow.core.addresses.providers import freemail_domains
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.addresses.verdicts import (
    NOT_ASKED,
    VERDICTS,
    DomainAnswer,
    Verdict,
    domain_lookup,
    is_reserved,
    judge,
)
from openmeadow.core.errors import Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY, HOUR
from openmeadow.net import mailbox_probe
from openmeadow.net.dns import Resolver, answer_all
from openmeadow.services import models
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.bulk import Many
from openmeadow.store.health import providers
from openmeadow.store.subscribers import addresses as table
from openmeadow.store.subscribers import selections, subscribers

DOMAIN_AGE, MAILBOX_AGE = 7 * DAY, 60 * DAY
MX_AGE, MX_AT_ONCE = 30 * DAY, 100
ASK_AGAIN = HOUR  # greylisted
AT_ONCE = 16  # domains asked side by side, so that one that is silent keeps no other waiting
CHUNK, SLOW_CHUNK = 2_000, 50
SECONDS_A_QUESTION = 0.06
Progress = Callable[[int, int], None]
Mailboxes = dict[str, str]


def lines_of(text: str) -> list[str]:
    """The addresses of a list, one a line, or of a CSV with an ``email`` column, as typed."""
    text = text.removeprefix("\ufeff")
    first = text.partition("\n")[0]
    for separator in (",", ";", "\t"):
        head = [h.strip().strip('"').lower() for h in first.split(separator)]
        if "email" in head and (len(head) > 1 or first.strip().lower() == "email"):
            rows = list(csv.reader(io.StringIO(text), delimiter=separator))[1:]
            at = head.index("email")
            return [r[at] if len(r) > at else "" for r in rows if r]
    return text.rstrip("\r\n").splitlines() if text.strip() else []


def ask_domains(names: Many[str], resolver: Resolver, *, reserved: bool) -> dict[str, DomainAnswer]:
    """What the DNS says of each domain; reserved ones only where ``reserved`` (a resolver that knows them)."""
    wanted = [name for name in sorted(set(names)) if reserved or not is_reserved(name)]
    with ThreadPoolExecutor(AT_ONCE) as pool:
        answers = pool.map(lambda name: answer_all(domain_lookup(name), resolver), wanted)
        return dict(zip(wanted, answers, strict=True))


def ask_mailboxes(
    keys: Many[str], domains: dict[str, DomainAnswer], resolver: Resolver, port: int, helo: str
) -> Iterator[mailbox_probe.Reply]:
    """Every address at a domain that takes mail, host by host."""
    by_domain: dict[str, list[str]] = {}
    for key in keys:
        by_domain.setdefault(key.rpartition("@")[2], []).append(key)
    for name, some in sorted(by_domain.items()):
        answer = domains.get(name, NOT_ASKED)
        if answer.takes_mail:
            yield from mailbox_probe.ask(resolver.address(answer.hosts[0]), port, helo, some)


def check_list(
    typed: list[str], known: list[str], resolver: Resolver | None, *, reserved: bool = False, port: int = 0
) -> list[tuple[str, Verdict]]:
    """A list of addresses, in order, each with its verdict. No network without ``resolver``;
    mail servers are asked where ``port`` is given."""
    keys = {t: address_key(t.strip()) for t in typed if t.strip() and syntax_problem(t.strip()) is None}
    domains: dict[str, DomainAnswer] = {}
    boxes: Mailboxes = {}
    if resolver is not None:
        domains = ask_domains((k.rpartition("@")[2] for k in keys.values()), resolver, reserved=reserved)
        if port:
            replies = ask_mailboxes(dict.fromkeys(keys.values()), domains, resolver, port, "meadow.localhost")
            boxes = {r.address: r.answer for r in replies}
    out = []
    for t in typed:
        key = keys.get(t, "")
        v = judge(t, known, (), domains.get(key.rpartition("@")[2], NOT_ASKED), boxes.get(key, ""))
        out.append((t, v))
    return out


def cost(workspace: Workspace, ids: list[int], *, ask_hosts: bool) -> models.AddressCost:
    """What a check would ask, and how long that takes."""
    db, now = workspace.store.read(), workspace.now()
    keys = selections.keys_of(db, ids)
    domains = {k.rpartition("@")[2] for k in keys}
    questions = len(keys) - table.fresh_mailboxes(db, keys, now - MAILBOX_AGE) if ask_hosts else 0
    asked = len(domains - table.fresh_domains(db, now - DOMAIN_AGE).keys())
    return models.AddressCost(
        people=len(keys),
        domains=asked,
        questions=questions,
        seconds=round(asked * 0.02 + questions * SECONDS_A_QUESTION + len(keys) * 0.0002),
    )


def check_people(
    workspace: Workspace, ids: list[int], *, ask_hosts: bool, progress: Progress | None = None
) -> dict[str, int]:
    """Verdicts for people of the workspace, kept with their moment; answers younger than their age are not asked anew.
    Can be left and begun again: what was answered stays answered. How many got which verdict."""
    counts = dict.fromkeys(VERDICTS, 0)
    resolver = Resolver(str(workspace.setting("resolver")))
    reserved, port = bool(workspace.setting("resolver")), int(workspace.setting("mail_port"))
    helo = str(workspace.setting("public_url")).partition("//")[2].partition(":")[0]
    known = selections.frequent_domains(workspace.store.read())
    done = 0
    size = SLOW_CHUNK if ask_hosts else CHUNK
    for i in range(0, len(ids), size):
        part = ids[i : i + size]
        rows = subscribers.by_ids(workspace.store.read(), part)
        keys = {row_id: address_key(r.email) for row_id, r in rows.items() if syntax_problem(r.email) is None}
        domains = _domains(workspace, {k.rpartition("@")[2] for k in keys.values()}, resolver, reserved)
        boxes = _boxes(workspace, list(keys.values()), domains, resolver, port, helo) if ask_hosts else {}
        bounced = selections.bounced_keys(workspace.store.read(), part)
        verdicts: list[tuple[int, Verdict]] = []
        for row_id, r in rows.items():
            key = keys.get(row_id, "")
            answer = domains.get(key.rpartition("@")[2], NOT_ASKED)
            verdicts.append((row_id, judge(r.email, known, bounced, answer, boxes.get(key, ""))))
        with workspace.store.atomic() as db:
            selections.save_verdicts(
                db,
                [
                    (row_id, VERDICTS.index(v.verdict), json.dumps(v.reasons), v.suggestion, workspace.now())
                    for row_id, v in verdicts
                ],
            )
        for _, v in verdicts:
            counts[v.verdict] += 1
        done += len(part)
        if progress:
            progress(done, len(ids))
    return counts


def ask_again(workspace: Workspace) -> int:
    """Those whose host greylisted the question are asked again when their time has come; how many."""
    ids = table.to_ask_again(workspace.store.read(), workspace.now(), SLOW_CHUNK)
    if ids:
        check_people(workspace, ids, ask_hosts=True)
    return len(ids)


def _domains(workspace: Workspace, names: set[str], resolver: Resolver, reserved: bool) -> dict[str, DomainAnswer]:
    now = workspace.now()
    known = table.fresh_domains(workspace.store.read(), now - DOMAIN_AGE)
    out = {n: known[n] for n in names if n in known}
    fresh = ask_domains(names - known.keys(), resolver, reserved=reserved)
    with workspace.store.atomic() as db:
        table.save_domains(db, fresh, now)
    return {**out, **fresh}


def _boxes(
    workspace: Workspace, keys: list[str], domains: dict[str, DomainAnswer], resolver: Resolver, port: int, helo: str
) -> Mailboxes:
    now = workspace.now()
    out = table.mailboxes(workspace.store.read(), keys, now - MAILBOX_AGE, now)
    for reply in ask_mailboxes([k for k in keys if k not in out], domains, resolver, port, helo):
        out[reply.address] = reply.answer
        with workspace.store.atomic() as db:
            again = now + ASK_AGAIN if reply.answer == "greylisted" else None
            table.save_mailbox(db, reply.address, reply.answer, reply.said, now, again)
    return out


def check_typed(workspace: Workspace, typed: list[str], *, ask_hosts: bool) -> list[models.TypedVerdict]:
    """Verdicts for addresses that need not be anybody's here, in order, with what is kept of domains and mail servers.
    ``person`` is who is here by that address, or None."""
    db, resolver = workspace.store.read(), Resolver(str(workspace.setting("resolver")))
    reserved, port = bool(workspace.setting("resolver")), int(workspace.setting("mail_port"))
    helo = str(workspace.setting("public_url")).partition("//")[2].partition(":")[0]
    known = selections.frequent_domains(db) + list(workspace.setting("freemail_domains")) + freemail_domains()
    keys = {t: address_key(t.strip()) for t in typed if t.strip() and syntax_problem(t.strip()) is None}
    here = subscribers.ids_of(db, list(dict.fromkeys(keys.values())))
    bounced = selections.bounced_keys(db, list(here.values()))
    domains = _domains(workspace, {k.rpartition("@")[2] for k in keys.values()}, resolver, reserved)
    boxes = _boxes(workspace, list(dict.fromkeys(keys.values())), domains, resolver, port, helo) if ask_hosts else {}
    out = []
    for t in typed:
        key = keys.get(t, "")
        v = judge(t, known, bounced, domains.get(key.rpartition("@")[2], NOT_ASKED), boxes.get(key, ""))
        out.append(
            models.TypedVerdict(
                address=t.strip(),
                verdict=v.verdict,
                reasons=list(v.reasons),
                suggestion=v.suggestion,
                person=here.get(key),
            )
        )
    return out


def check_file(
    workspace: Workspace, source: Path, out: Path, begun: int, *, ask_hosts: bool, progress: Progress | None = None
) -> dict[str, int]:
    """Verdicts for a list or a CSV with an email column, written as a CSV; the first ``begun`` are there already.
    How many got which verdict, over the whole file."""
    typed = [t for t in lines_of(source.read_bytes().decode("utf-8-sig", "replace")) if t.strip()]
    size = SLOW_CHUNK if ask_hosts else CHUNK
    with out.open("a" if begun else "w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f)
        if not begun:
            writer.writerow(["email", "verdict", "reasons", "suggestion"])
        for i in range(begun, len(typed), size):
            for v in check_typed(workspace, typed[i : i + size], ask_hosts=ask_hosts):
                reasons = "; ".join(v.reasons)
                writer.writerow([safe(c) for c in (v.address, v.verdict, reasons, v.suggestion or "")])
            f.flush()
            if progress:
                progress(min(i + size, len(typed)) - begun, len(typed) - begun)
    with out.open(encoding="utf-8", newline="") as f:
        counts = Counter(row["verdict"] for row in csv.DictReader(f))
    return {v: counts[v] for v in VERDICTS}


def summary(workspace: Workspace) -> models.AddressSummary:
    """Everyone by verdict, the reasons behind, the slips with what was probably meant."""
    db = workspace.store.read()
    return models.AddressSummary(
        counts=table.verdict_counts(db),
        unchecked=table.unchecked(db),
        reasons=[models.VerdictReason(words=w, verdict=VERDICTS[v], count=n) for w, v, n in table.reason_counts(db)],
        slips=[models.Typo.read_from(r) for r in table.slips(db)],
        required=bool(workspace.setting("require_address_check")),
    )


def take_suggestions(workspace: Workspace, ids: list[SubscriberId] | None, who: str) -> tuple[int, int]:
    """Change addresses to what was probably meant: the given people's, or all of them (None). One whose better address
    somebody else has already stays. (action, how many)."""
    db = workspace.store.read()
    rows = [r for r in table.suggested(db) if ids is None or r.subscriber in ids]
    if not rows:
        raise Refused("There are no suggestions left to apply.")
    with workspace.store.atomic() as w:
        action = undo_log.begin(w, workspace.now(), who, "corrected addresses", "typos", 0, "addresses")
        changed = 0
        for r in rows:
            key = address_key(r.suggestion)
            if subscribers.ids_of(w, [key]):
                continue
            undo_log.put_away(w, action, "address", [(r.subscriber, [r.email, r.email_key, r.provider])])
            provider = providers.of_domain(w, key.rpartition("@")[2])
            table.change_address(w, r.subscriber, r.suggestion, key, provider)
            changed += 1
        undo_log.counted(w, action, changed)
        subscribers.people_changed(w)
        settings.log(w, workspace.now(), who, "accepted suggestions", "addresses", changed)
    return action, changed
