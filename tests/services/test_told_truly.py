"""What is told is what happened: results against a count by hand, doubt where nobody knows, a hold that takes effect at once,
word sent once and not at night."""

from __future__ import annotations

import asyncio
import csv
import io
import json
import random
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pytest
from aiosmtpd.controller import Controller

from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import (
    campaigns,
    dispatcher,
    figures,
    guardrails,
    results,
    results_breakdown,
    tracking,
    unconfirmed,
)
from openmeadow.services.health import provider_health
from openmeadow.services.subscribers import profile
from openmeadow.services.today import alerts, overview
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import events
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, free_port, mailing, ready_campaign

HOUR = 3600
MACHINE, READER = "PrivacyProxy/2.0", "Reader"


def lived(m: Mailing, seed: int) -> None:
    """A campaign in three batches with a resend in two variants, answered at random: people, machines, unsubscribes,
    complaints, replies, bookings, a bounce that comes later."""
    lot, workspace = random.Random(seed), m.workspace
    plan = {"pilot_share": 0.2, "batches": 2, "interval": HOUR, "wait": DAY, "holdout_share": 0.3, "new_subject": "Again"}
    campaigns.write(workspace, m.campaign, {"plan": plan})
    campaigns.start(workspace, m.campaign, "test")
    for hours in (0, 1, 2, 3, 24, 25, 26, 30, 50):
        set_clock(workspace, NOW + hours * HOUR)
        dispatcher.send_due(workspace, m.tokens)
        set_clock(workspace, NOW + hours * HOUR + 900)
        for kind in ("first", "resend"):
            for d in deliveries_of(workspace.store.read(), m.campaign, kind):
                if d.state != "sent":
                    continue
                what = lot.random()
                if what < 0.12:
                    tracking.opened(workspace, d.id, READER, "198.51.100.1")
                elif what < 0.2:
                    tracking.opened(workspace, d.id, MACHINE, "203.0.113.1")
                elif what < 0.26:
                    link = campaign_table.links(workspace.store.read(), campaigns.row_of(workspace, m.campaign).message)[
                        0
                    ].id
                    tracking.clicked(workspace, d.id, link, READER, "198.51.100.1")
                elif what < 0.28:
                    tracking.unsubscribed(workspace, d.id)
                elif what < 0.29:
                    tracking.happened(workspace, d.id, Kind.COMPLAINED)
                elif what < 0.30:
                    tracking.happened(workspace, d.id, Kind.REPLIED)
                elif what < 0.31:
                    tracking.happened(workspace, d.id, Kind.BOUNCED, code="550 5.1.1", diagnostic="no such user")


def by_hand(m: Mailing) -> dict[str, dict[str, int]]:
    """Counted from the raw events, one person after another: whole, and by provider."""
    db, row = m.workspace.store.read(), campaigns.row_of(m.workspace, m.campaign)
    acts: dict[int, list[Any]] = defaultdict(list)
    for e in db.execute(
        "SELECT e.subscriber, e.kind, a.agent FROM events e LEFT JOIN agents a ON a.id = e.agent WHERE e.message = ? "
        "ORDER BY e.at, e.id",
        (row.message,),
    ):
        acts[e["subscriber"]].append((Kind(e["kind"]), e["agent"]))
    out: dict[str, Counter[str]] = defaultdict(Counter)
    emails = {r["id"]: r["email"] for r in db.execute("SELECT id, email FROM subscribers")}
    for d in deliveries_of(db, m.campaign, "first"):
        if d.state != "sent":
            continue
        mine = acts[d.subscriber]
        kinds = {k for k, _ in mine}
        people = {k for k, agent in mine if agent != MACHINE}
        passes: list[bool] = []  # a bounce is about the send before it; one pass that came through is enough
        for kind, _ in mine:
            if kind == Kind.SENT:
                passes.append(True)
            elif kind == Kind.BOUNCED:
                passes[-1] = False
        delivered = any(passes)
        answered = bool(people & {Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED})
        told = {
            "sent": True,
            "delivered": delivered,
            "opened": delivered and answered,
            "clicked": delivered and Kind.CLICKED in people,
            "machine_only": delivered and not answered and Kind.OPENED in kinds,
            "unsubscribed": Kind.UNSUBSCRIBED in kinds,
            "complained": Kind.COMPLAINED in kinds,
            "replied": Kind.REPLIED in people,
        }
        for where in ("whole", "Postern" if emails[d.subscriber].endswith("postern.example") else "Other domains"):
            out[where].update({k: int(v) for k, v in told.items()})
    return {k: dict(v) for k, v in out.items()}


@pytest.mark.parametrize("seed", range(4))
def test_results_are_what_happened(folder: Path, seed: int) -> None:
    with mailing(folder, 80) as m:
        lived(m, seed)
        hand, found = by_hand(m), results.results(m.workspace, m.campaign)
        whole = hand["whole"]
        for figure in ("sent", "delivered", "opened", "machine_only"):
            assert getattr(found, figure) == whole[figure], figure
        firsts = [b for b in found.batches if b.kind == "first"]
        for figure in ("sent", "delivered", "opened", "clicked", "machine_only", "unsubscribed", "complained"):
            # whoever clicked and then bounced clicked all the same
            assert sum(getattr(b, figure) for b in firsts) == whole[figure] or figure == "clicked", figure
        assert sum(b.people for b in firsts) == 80 == sum(n for b in firsts for n in b.bands)
        # each division adds up to the whole, and the providers are as counted by hand
        divided = results_breakdown.divided(m.workspace, m.campaign)
        for part in divided.by:
            if part.title != "List":
                for figure in ("sent", "delivered", "opened", "clicked", "machine_only"):
                    assert sum(getattr(x, figure) for x in part.lines) == whole[figure], (part.title, figure)
        provider = next(p for p in divided.by if p.title == "Provider")
        for line in provider.lines:
            for figure in ("sent", "delivered", "opened", "clicked", "machine_only"):
                assert getattr(line, figure) == hand[line.words][figure], (line.words, figure)
        assert divided.replies == whole["replied"] == len(divided.replied)
        # beside others, as text and as CSV it says the same
        (line,) = results_breakdown.compared(m.workspace, [m.campaign])
        assert {k: getattr(line, k) for k in ("sent", "delivered", "opened", "unsubscribed")} == {
            k: whole[k] for k in ("sent", "delivered", "opened", "unsubscribed")
        }
        listed = figures.every(m.workspace)[campaigns.row_of(m.workspace, m.campaign).message]
        assert (listed.delivered, listed.opened, listed.clicked) == (
            whole["delivered"],
            whole["opened"],
            whole["clicked"],
        )
        text = results_breakdown.in_text(m.workspace, m.campaign, results_breakdown.divided(m.workspace, m.campaign))
        assert f"Opens (human) {whole['opened']:,} of {whole['delivered']:,}" in text
        rows = list(csv.DictReader(io.StringIO(results.as_csv(m.workspace, m.campaign).split("\r\n\r\n")[0])))
        assert sum(int(r["opened_by_people"]) for r in rows if r["send"] == "first") == whole["opened"]
        # variants and held back are everybody the lot drew, each once
        again = deliveries_of(m.workspace.store.read(), m.campaign, "resend")
        assert sum(a.people for a in found.variants) == len(again)
        assert (
            found.engaged_first + sum(a.engaged for a in found.variants if a.variant != "Holdout")
            >= found.engaged_all - next(a for a in found.variants if a.variant == "Holdout").engaged
        )
        why = {x.words: x.count for x in found.why_not}
        assert why["Scheduled"] + sum(n for n in why.values() if n < 0) == why["Sent"] == whole["sent"]


class Dropping:
    """A relay that takes a message and breaks the connection before it says so, the first time for some."""

    def __init__(self, first_time: set[str]) -> None:
        self.first_time, self.taken = set(first_time), Counter[str]()

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        to = envelope.rcpt_tos[0]
        self.taken[to] += 1
        if to in self.first_time:
            self.first_time.discard(to)
            server.transport.abort()
        return "250 taken"


class Slow(Dropping):
    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        await asyncio.sleep(0.02)
        return await super().handle_DATA(server, session, envelope)


@contextmanager
def another_relay(m: Mailing, handler: Dropping) -> Iterator[Dropping]:
    port = free_port()
    relay = Controller(handler, "127.0.0.1", port)
    relay.start()
    with m.workspace.store.atomic() as db:
        settings_table.set_setting(db, "relay_port", port)
    try:
        yield handler
    finally:
        relay.stop()


@pytest.mark.parametrize("arrived", [True, False])
def test_a_connection_that_breaks_after_data_leaves_doubt_for_the_analyst(folder: Path, arrived: bool) -> None:
    """Nothing is guessed: those people are shown, the others get it once, and the analyst's word settles it."""
    doubtful = {"p1@postern.example", "p4@saltmere.example", "p7@postern.example"}
    with mailing(folder, 20) as m, another_relay(m, Dropping(doubtful)) as relay:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        rows = deliveries_of(m.workspace.store.read(), m.campaign, "first")
        assert Counter(d.state for d in rows) == {"sent": 17, "unconfirmed": 3}
        assert relay.taken == Counter(m.world.habits.email.tolist()), "each was tried once"
        said = [d for d in overview.decisions(m.workspace, m.workspace.view()) if d.kind == "Unconfirmed"]
        assert said[0].title == "3 emails of Harbour nights are unconfirmed."
        for _ in range(3):
            set_clock(m.workspace, m.workspace.now() + 9 * HOUR)
            assert dispatcher.send_due(m.workspace, m.tokens) == 0, "nobody is sent it again by itself"
        assert unconfirmed.resolve(m.workspace, m.campaign, arrived, "test") == 3
        dispatcher.send_due(m.workspace, m.tokens)
        assert sum(relay.taken.values()) == (20 if arrived else 23)
        states = Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"))
        assert states == {"sent": 20}
        sent = m.workspace.store.read().execute("SELECT count(*) AS n FROM events WHERE kind = 1").fetchone()["n"]
        assert sent == 20, "one send each in the history"


@pytest.mark.parametrize("act", ["pause", "stop"])
def test_holding_takes_effect_within_a_batch(folder: Path, act: str) -> None:
    """A slow relay, one batch of 300: what is on its way is finished, nothing more begins."""
    with mailing(folder, 300) as m, another_relay(m, Slow(set())) as relay:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        thread = threading.Thread(target=dispatcher.send_due, args=(m.workspace, m.tokens))
        thread.start()
        while sum(relay.taken.values()) < 30:
            time.sleep(0.002)
        getattr(campaigns, act)(m.workspace, m.campaign, "test")
        at = sum(relay.taken.values())
        thread.join()
        lines = int(m.workspace.setting("connections"))
        assert sum(relay.taken.values()) - at <= 2 * lines, "at most what each connection had begun"
        states = Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"))
        assert states["sent"] == sum(relay.taken.values()) and sum(states.values()) == 300
        assert states["queued" if act == "pause" else "skipped"] == 300 - states["sent"]
        if act == "pause":
            campaigns.resume(m.workspace, m.campaign, "test")
            dispatcher.send_due(m.workspace, m.tokens)
            assert max(relay.taken.values()) == 1 and len(relay.taken) == 300


BATCH = ("scheduled", "sending", "sent", "paused", "stopped")
PLAN = ("draft", "scheduled", "sending", "paused", "finished", "stopped")


def test_which_batches_are_due(folder: Path) -> None:
    """Every state of a batch and of its plan, with and without somebody waiting, before and after its moment."""
    with mailing(folder, 4) as m:
        due: set[tuple[str, str, bool, bool]] = set()
        names: dict[int, tuple[str, str, bool, bool]] = {}
        with m.workspace.store.atomic() as db:
            for b in BATCH:
                for p in PLAN:
                    for waits in (True, False):
                        for late in (True, False):
                            what = (b, p, waits, late)
                            id = campaign_table.add(db, json.dumps(what), 1, NOW)
                            campaign_table.update(db, id, {"state": p})
                            q = batch_table.add_pass(db, id, "first")
                            batch = batch_table.add_batch(db, q, 1, NOW - 60 if late else NOW + 60, 1)
                            batch_table.set_batch(db, batch, b)
                            state = "queued" if waits else "sent"
                            deliveries.add_deliveries(db, [(q, batch, 1, 0, 0, state, None, None)])
                            names[batch] = what
            due = {names[r.id] for r in batch_table.due_batches(db, NOW)}
        running = {
            (b, p, w, True) for b in ("scheduled", "sending") for p in ("scheduled", "sending") for w in (True, False)
        }
        second_tries = {("sent", p, True, True) for p in ("scheduled", "sending", "finished")}
        assert due == running | second_tries


class Ear(BaseHTTPRequestHandler):
    heard: ClassVar[list[dict[str, str]]] = []

    def do_POST(self) -> None:
        self.heard.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def ear() -> Iterator[str]:
    Ear.heard.clear()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Ear)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/hook"
    server.shutdown()
    server.server_close()


def tell(m: Mailing, **settings: Any) -> None:
    with m.workspace.store.atomic() as db:
        for name, value in settings.items():
            settings_table.set_setting(db, name, value)


def test_word_is_sent_once_and_waits_for_the_morning(folder: Path, ear: str) -> None:
    with mailing(folder, 6) as m:
        assert alerts.tend(m.workspace) == 0, "nobody is to have word"
        with pytest.raises(Refused, match="No alert recipients are set"):
            alerts.send(m.workspace, "x", "y")
        tell(m, alert_url=ear, quiet_hours="8-11")
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"state": "paused", "paused_why": "Complaints at Postern."})
        assert alerts.tend(m.workspace) == 0 and not Ear.heard, "it is 09:42, a quiet hour here"
        set_clock(m.workspace, NOW + 2 * HOUR)
        assert alerts.tend(m.workspace) == 1 and alerts.tend(m.workspace) == 0, "once"
        assert Ear.heard[0]["text"] == "Harbour nights is paused. Complaints at Postern."
        assert Ear.heard[0]["link"].endswith(f"/campaigns/{m.campaign}/schedule")
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"paused_why": "Hard bounces at Brinebox."})
        assert alerts.tend(m.workspace) == 1, "another reason is other news"
        tell(m, alert_url="ftp://chat.example/hook")
        with pytest.raises(Refused, match="it is not a web address"):
            alerts.send(m.workspace, "x", "y")
        tell(m, alert_url=f"http://127.0.0.1:{free_port()}/hook")
        with pytest.raises(Refused, match="rejected the alert"):
            alerts.send(m.workspace, "x", "y")


@pytest.mark.parametrize(
    ("span", "hours"),
    [("22-7", {22, 23, 0, 1, 2, 3, 4, 5, 6}), ("8-11", {8, 9, 10}), ("", set()), ("night", set()), ("7-7", set())],
)
def test_quiet_hours(folder: Path, span: str, hours: set[int]) -> None:
    with mailing(folder, 2) as m:
        tell(m, quiet_hours=span)
        found = set()
        for hour in range(24):
            set_clock(m.workspace, NOW - NOW % DAY + hour * HOUR)
            if alerts.quiet(m.workspace):
                found.add(hour)
        assert found == hours


def test_a_jump_in_complaints_is_worth_a_word(folder: Path) -> None:
    with mailing(folder, 40) as m:
        other = ready_campaign(m.workspace, "Jump")
        campaigns.write(m.workspace, other, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, other, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        assert alerts.jumps(m.workspace) == []
        message = campaigns.row_of(m.workspace, other).message
        with m.workspace.store.atomic() as db:
            rows = [(NOW + 60, int(Kind.COMPLAINED), s, message, 0, 0, 0.0, None, None, f"c{s}") for s in range(2, 14, 2)]
            events.add(db, rows)
        set_clock(m.workspace, NOW + HOUR)
        (jump,) = alerts.jumps(m.workspace)
        assert jump.title == "Complaints at Postern." and "6 complaints of 20" in jump.detail


def test_every_figure_agrees_on_one_history(folder: Path) -> None:
    """Refused while it was sent, bounced later, complained: the same everywhere, however it came to be."""
    gone = np.full(60, 2**40)
    gone[[1, 3, 5]] = 0
    with mailing(folder, 60, gone=gone) as m:
        m.world.habits.email[7] = "nobody@tidewatch.example"
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        if campaigns.row_of(m.workspace, m.campaign).state == "paused":
            campaigns.resume(m.workspace, m.campaign, "test")
            dispatcher.send_due(m.workspace, m.tokens)
        set_clock(m.workspace, NOW + 3600)
        ids = {d.subscriber: d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}
        for s in (11, 21):
            tracking.happened(m.workspace, ids[s], Kind.BOUNCED, code="5.1.1", diagnostic="550 5.1.1 gone")
        tracking.happened(m.workspace, ids[31], Kind.COMPLAINED)
        found = results.results(m.workspace, m.campaign)
        (batch,) = found.batches
        assert (found.sent, found.delivered) == (60, 55) == (batch.sent, batch.delivered)
        assert batch.bounced == 5 and batch.complained == 1
        (line,) = results_breakdown.compared(m.workspace, [m.campaign])
        assert (line.sent, line.delivered, line.bounced, line.complained) == (60, 55, 5, 1)
        divided = results_breakdown.divided(m.workspace, m.campaign)
        assert sum(x.sent - x.delivered for x in divided.by[0].lines) == 5
        assert figures.every(m.workspace)[campaigns.row_of(m.workspace, m.campaign).message].delivered == 55
        told = provider_health.providers(m.workspace, m.workspace.view())
        assert [sum(sum(p.days[k]) for p in told) for k in ("sent", "hard bounces", "complaints")] == [60, 5, 1]
        today_told = overview.providers(m.workspace, m.workspace.view())
        assert [sum(getattr(p, k) for p in today_told) for k in ("sent", "bounced", "complained")] == [60, 5, 1]
        trace = Counter(profile.trace(m.workspace.view(), i)[-1] for i in range(60))
        assert trace["b"] == 5, "on the table and the person's page"
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"guard_from": 0})
        whole = guardrails.counts(m.workspace, m.campaign, 0)["first", (guardrails.WHOLE, "")]
        assert (whole["tried"], whole["hard bounces"], whole["complaints"]) == (60, 5, 1)


def test_deliveries_are_kept_until_one_changes(folder: Path) -> None:
    """Results read the deliveries once, and again after anything that changes one, also where its moment stays."""
    with mailing(folder, 40) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "ann")
        dispatcher.send_due(m.workspace, m.tokens)
        set_clock(m.workspace, NOW + HOUR)
        first = figures.deliveries_of(m.workspace, m.campaign)
        assert figures.deliveries_of(m.workspace, m.campaign) is first
        assert results.results(m.workspace, m.campaign).sent == 40
        one = deliveries_of(m.workspace.store.read(), m.campaign, "first")[0]
        with m.workspace.store.atomic() as db:
            deliveries.mark(db, one.id, "unconfirmed", NOW)
        assert results.results(m.workspace, m.campaign).sent == 39
        unconfirmed.resolve(m.workspace, m.campaign, True, "ann")
        assert results.results(m.workspace, m.campaign).sent == 40
