"""Address checks: a file of them, or people of the workspace; domains asked once, mail hosts asked politely."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from openmeadow.core.addresses.providers import freemail_domains
from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.addresses.verdicts import (
    NOT_ASKED,
    VERDICTS,
    DomainAnswer,
    Verdict,
    domain_answer,
    is_reserved,
    judge,
)
from openmeadow.core.errors import Refused
from openmeadow.desk.desk import Desk
from openmeadow.desk.exports import safe
from openmeadow.store import addresses as table
from openmeadow.store import deeds, people_sets, providers, subscribers, workspace
from openmeadow.store.database import Many
from openmeadow.wire import mailboxes
from openmeadow.wire.dns import Resolver, answer_all

DAY = 86_400
DOMAIN_AGE, MAILBOX_AGE = 7 * DAY, 60 * DAY
MX_AGE, MX_AT_ONCE = 30 * DAY, 100
ASK_AGAIN = 3600  # greylisted
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
        answers = pool.map(lambda name: answer_all(domain_answer(name), resolver), wanted)
        return dict(zip(wanted, answers, strict=True))


def ask_mailboxes(
    keys: Many[str], domains: dict[str, DomainAnswer], resolver: Resolver, port: int, helo: str
) -> Iterator[mailboxes.Reply]:
    """Every address at a domain that takes mail, host by host."""
    by_domain: dict[str, list[str]] = {}
    for key in keys:
        by_domain.setdefault(key.rpartition("@")[2], []).append(key)
    for name, some in sorted(by_domain.items()):
        answer = domains.get(name, NOT_ASKED)
        if answer.takes_mail:
            yield from mailboxes.ask(resolver.address(answer.hosts[0]), port, helo, some)


def check_list(
    typed: list[str], known: list[str], resolver: Resolver | None, *, reserved: bool = False, port: int = 0
) -> list[dict[str, Any]]:
    """A list of addresses, in order: {"address", "verdict", "reasons", "suggestion"}. No network without ``resolver``;
    mail hosts are asked where ``port`` is given."""
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
        out.append({"address": t, "verdict": v.verdict, "reasons": list(v.reasons), "suggestion": v.suggestion})
    return out


def cost(desk: Desk, ids: list[int], *, ask_hosts: bool) -> dict[str, Any]:
    """What a check would ask, and how long that takes: {"people", "domains", "questions", "seconds"}."""
    db, now = desk.store.read(), desk.now()
    keys = people_sets.keys_of(db, ids)
    domains = {k.rpartition("@")[2] for k in keys}
    questions = len(keys) - table.fresh_mailboxes(db, keys, now - MAILBOX_AGE) if ask_hosts else 0
    asked = len(domains - table.fresh_domains(db, now - DOMAIN_AGE).keys())
    return {
        "people": len(keys),
        "domains": asked,
        "questions": questions,
        "seconds": round(asked * 0.02 + questions * SECONDS_A_QUESTION + len(keys) * 0.0002),
    }


def check_people(desk: Desk, ids: list[int], *, ask_hosts: bool, progress: Progress | None = None) -> dict[str, int]:
    """Verdicts for people of the workspace, kept with their moment; answers younger than their age are not asked anew.
    Can be left and begun again: what was answered stays answered. How many got which verdict."""
    counts = dict.fromkeys(VERDICTS, 0)
    resolver = Resolver(str(desk.setting("resolver")))
    reserved, port = bool(desk.setting("resolver")), int(desk.setting("mail_port"))
    helo = str(desk.setting("public_url")).partition("//")[2].partition(":")[0]
    known = people_sets.frequent_domains(desk.store.read())
    done = 0
    size = SLOW_CHUNK if ask_hosts else CHUNK
    for i in range(0, len(ids), size):
        part = ids[i : i + size]
        rows = subscribers.by_ids(desk.store.read(), part)
        keys = {id: address_key(r["email"]) for id, r in rows.items() if syntax_problem(r["email"]) is None}
        domains = _domains(desk, {k.rpartition("@")[2] for k in keys.values()}, resolver, reserved)
        boxes = _boxes(desk, list(keys.values()), domains, resolver, port, helo) if ask_hosts else {}
        bounced = people_sets.bounced_keys(desk.store.read(), part)
        verdicts: list[tuple[int, Verdict]] = []
        for id, r in rows.items():
            key = keys.get(id, "")
            answer = domains.get(key.rpartition("@")[2], NOT_ASKED)
            verdicts.append((id, judge(r["email"], known, bounced, answer, boxes.get(key, ""))))
        with desk.store.atomic() as db:
            people_sets.keep_verdicts(
                db,
                [(id, VERDICTS.index(v.verdict), json.dumps(v.reasons), v.suggestion, desk.now()) for id, v in verdicts],
            )
        for _, v in verdicts:
            counts[v.verdict] += 1
        done += len(part)
        if progress:
            progress(done, len(ids))
    return counts


def ask_again(desk: Desk) -> int:
    """Those whose host greylisted the question are asked again when their time has come; how many."""
    ids = table.to_ask_again(desk.store.read(), desk.now(), SLOW_CHUNK)
    if ids:
        check_people(desk, ids, ask_hosts=True)
    return len(ids)


def _domains(desk: Desk, names: set[str], resolver: Resolver, reserved: bool) -> dict[str, DomainAnswer]:
    now = desk.now()
    known = table.fresh_domains(desk.store.read(), now - DOMAIN_AGE)
    out = {n: known[n] for n in names if n in known}
    fresh = ask_domains(names - known.keys(), resolver, reserved=reserved)
    with desk.store.atomic() as db:
        table.keep_domains(db, fresh, now)
    return {**out, **fresh}


def _boxes(
    desk: Desk, keys: list[str], domains: dict[str, DomainAnswer], resolver: Resolver, port: int, helo: str
) -> Mailboxes:
    now = desk.now()
    out = table.mailboxes(desk.store.read(), keys, now - MAILBOX_AGE, now)
    for reply in ask_mailboxes([k for k in keys if k not in out], domains, resolver, port, helo):
        out[reply.address] = reply.answer
        with desk.store.atomic() as db:
            again = now + ASK_AGAIN if reply.answer == "greylisted" else None
            table.keep_mailbox(db, reply.address, reply.answer, reply.said, now, again)
    return out


def check_typed(desk: Desk, typed: list[str], *, ask_hosts: bool) -> list[dict[str, Any]]:
    """Verdicts for addresses that need not be anybody's here, in order, with what is kept of domains and mail hosts:
    {"address", "verdict", "reasons", "suggestion", "person"}; ``person`` is who is here by that address, or None."""
    db, resolver = desk.store.read(), Resolver(str(desk.setting("resolver")))
    reserved, port = bool(desk.setting("resolver")), int(desk.setting("mail_port"))
    helo = str(desk.setting("public_url")).partition("//")[2].partition(":")[0]
    known = people_sets.frequent_domains(db) + list(desk.setting("freemail_domains")) + freemail_domains()
    keys = {t: address_key(t.strip()) for t in typed if t.strip() and syntax_problem(t.strip()) is None}
    here = subscribers.ids_of(db, list(dict.fromkeys(keys.values())))
    bounced = people_sets.bounced_keys(db, list(here.values()))
    domains = _domains(desk, {k.rpartition("@")[2] for k in keys.values()}, resolver, reserved)
    boxes = _boxes(desk, list(dict.fromkeys(keys.values())), domains, resolver, port, helo) if ask_hosts else {}
    out = []
    for t in typed:
        key = keys.get(t, "")
        v = judge(t, known, bounced, domains.get(key.rpartition("@")[2], NOT_ASKED), boxes.get(key, ""))
        found = {"address": t.strip(), "verdict": v.verdict, "reasons": list(v.reasons), "suggestion": v.suggestion}
        out.append(found | {"person": here.get(key)})
    return out


def check_file(
    desk: Desk, source: Path, out: Path, begun: int, *, ask_hosts: bool, progress: Progress | None = None
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
            for v in check_typed(desk, typed[i : i + size], ask_hosts=ask_hosts):
                reasons = "; ".join(v["reasons"])
                writer.writerow([safe(c) for c in (v["address"], v["verdict"], reasons, v["suggestion"] or "")])
            f.flush()
            if progress:
                progress(min(i + size, len(typed)) - begun, len(typed) - begun)
    with out.open(encoding="utf-8", newline="") as f:
        counts = Counter(row["verdict"] for row in csv.DictReader(f))
    return {v: counts[v] for v in VERDICTS}


def summary(desk: Desk) -> dict[str, Any]:
    """Everybody by verdict, the reasons behind, the slips with what was probably meant."""
    db = desk.store.read()
    return {
        "counts": table.verdict_counts(db),
        "unchecked": table.unchecked(db),
        "reasons": [{"words": w, "verdict": VERDICTS[v], "count": n} for w, v, n in table.reason_counts(db)],
        "slips": [dict(r) for r in table.slips(db)],
        "required": bool(desk.setting("require_checked")),
    }


def take_suggestions(desk: Desk, ids: list[int] | None, who: str) -> tuple[int, int]:
    """Change addresses to what was probably meant: the given people's, or all of them (None). One whose better address
    somebody else has already stays. (deed, how many)."""
    db = desk.store.read()
    rows = [r for r in table.suggested(db) if ids is None or r["subscriber"] in ids]
    if not rows:
        raise Refused("There is nothing to change: no suggestion is left.")
    with desk.store.atomic() as w:
        deed = deeds.begin(w, desk.now(), who, "corrected addresses", "typing slips", 0, "addresses")
        changed = 0
        for r in rows:
            key = address_key(r["suggestion"])
            if subscribers.ids_of(w, [key]):
                continue
            deeds.put_away(w, deed, "address", [(r["subscriber"], [r["email"], r["email_key"], r["provider"]])])
            provider = providers.of_domain(w, key.rpartition("@")[2])
            table.change_address(w, r["subscriber"], r["suggestion"], key, provider)
            changed += 1
        deeds.counted(w, deed, changed)
        subscribers.people_changed(w)
        workspace.log(w, desk.now(), who, "accepted suggestions", "addresses", changed)
    return deed, changed
