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

from openmeadow.core.columns import DAY, Kind
from openmeadow.core.errors import Refused
from openmeadow.desk import (
    answers,
    breakdown,
    campaigns,
    guarding,
    health,
    people,
    results,
    sending,
    today,
    unconfirmed,
    words,
)
from openmeadow.store import campaigns as campaign_table
from openmeadow.store import events, ledger, workspace
from tests.conftest import NOW, set_clock
from tests.desk.mailing import Mailing, free_port, mailing, ready_campaign

HOUR = 3600
MACHINE, READER = "PrivacyProxy/2.0", "Reader"


def lived(m: Mailing, seed: int) -> None:
    """A campaign in three batches with a resend in two arms, answered by lot: people, machines, unsubscribes,
    complaints, replies, bookings, a bounce that comes later."""
    lot, desk = random.Random(seed), m.desk
    plan = {"lead_share": 0.2, "batches": 2, "interval": HOUR, "wait": DAY, "held_share": 0.3, "new_subject": "Again"}
    campaigns.write(desk, m.campaign, {"plan": plan})
    campaigns.start(desk, m.campaign, "test")
    for hours in (0, 1, 2, 3, 24, 25, 26, 30, 50):
        set_clock(desk, NOW + hours * HOUR)
        sending.send_due(desk, m.tokens)
        set_clock(desk, NOW + hours * HOUR + 900)
        for kind in ("first", "resend"):
            for d in ledger.of_campaign(desk.store.read(), m.campaign, kind):
                if d["state"] != "handed over":
                    continue
                what = lot.random()
                if what < 0.12:
                    answers.opened(desk, d["id"], READER, "198.51.100.1")
                elif what < 0.2:
                    answers.opened(desk, d["id"], MACHINE, "203.0.113.1")
                elif what < 0.26:
                    link = campaign_table.links(desk.store.read(), campaigns.row_of(desk, m.campaign)["message"])[0]["id"]
                    answers.clicked(desk, d["id"], link, READER, "198.51.100.1")
                elif what < 0.28:
                    answers.unsubscribed(desk, d["id"])
                elif what < 0.29:
                    answers.happened(desk, d["id"], Kind.COMPLAINED)
                elif what < 0.30:
                    answers.happened(desk, d["id"], Kind.REPLIED)
                elif what < 0.31:
                    answers.happened(desk, d["id"], Kind.BOUNCED, code="550 5.1.1", diagnostic="no such user")


def by_hand(m: Mailing) -> dict[str, dict[str, int]]:
    """Counted from the raw events, one person after another: whole, and by provider."""
    db, row = m.desk.store.read(), campaigns.row_of(m.desk, m.campaign)
    acts: dict[int, list[Any]] = defaultdict(list)
    for e in db.execute(
        "SELECT e.subscriber, e.kind, a.agent FROM events e LEFT JOIN agents a ON a.id = e.agent WHERE e.message = ? "
        "ORDER BY e.at, e.id",
        (row["message"],),
    ):
        acts[e["subscriber"]].append((Kind(e["kind"]), e["agent"]))
    out: dict[str, Counter[str]] = defaultdict(Counter)
    emails = {r["id"]: r["email"] for r in db.execute("SELECT id, email FROM subscribers")}
    for d in ledger.of_campaign(db, m.campaign, "first"):
        if d["state"] != "handed over":
            continue
        mine = acts[d["subscriber"]]
        kinds = {k for k, _ in mine}
        people = {k for k, agent in mine if agent != MACHINE}
        passes: list[bool] = []  # a bounce is about the pass before it; one pass that came through is enough
        for kind, _ in mine:
            if kind == Kind.SENT:
                passes.append(True)
            elif kind == Kind.BOUNCED:
                passes[-1] = False
        delivered = any(passes)
        answered = bool(people & {Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED})
        told = {
            "handed": True,
            "delivered": delivered,
            "opened": delivered and answered,
            "clicked": delivered and Kind.CLICKED in people,
            "machine_only": delivered and not answered and Kind.OPENED in kinds,
            "unsubscribed": Kind.UNSUBSCRIBED in kinds,
            "complained": Kind.COMPLAINED in kinds,
            "replied": Kind.REPLIED in people,
        }
        for where in ("whole", "Postern" if emails[d["subscriber"]].endswith("postern.example") else "Other domains"):
            out[where].update({k: int(v) for k, v in told.items()})
    return {k: dict(v) for k, v in out.items()}


@pytest.mark.parametrize("seed", range(4))
def test_results_are_what_happened(folder: Path, seed: int) -> None:
    with mailing(folder, 80) as m:
        lived(m, seed)
        hand, found = by_hand(m), results.results(m.desk, m.campaign)
        whole = hand["whole"]
        for figure in ("handed", "delivered", "opened", "machine_only"):
            assert found[figure] == whole[figure], figure
        firsts = [b for b in found["batches"] if b["kind"] == "first"]
        for figure in ("handed", "delivered", "opened", "clicked", "machine_only", "unsubscribed", "complained"):
            # whoever clicked and then bounced clicked all the same
            assert sum(b[figure] for b in firsts) == whole[figure] or figure == "clicked", figure
        assert sum(b["people"] for b in firsts) == 80 == sum(n for b in firsts for n in b["bands"])
        # each division adds up to the whole, and the providers are as counted by hand
        divided = breakdown.divided(m.desk, m.campaign)
        for part in divided["by"]:
            if part["title"] != "List":
                for figure in ("handed", "delivered", "opened", "clicked", "machine_only"):
                    assert sum(x[figure] for x in part["lines"]) == whole[figure], (part["title"], figure)
        provider = next(p for p in divided["by"] if p["title"] == "Provider")
        for line in provider["lines"]:
            for figure in ("handed", "delivered", "opened", "clicked", "machine_only"):
                assert line[figure] == hand[line["words"]][figure], (line["words"], figure)
        assert divided["replies"] == whole["replied"] == len(divided["replied"])
        # beside others, as text and as CSV it says the same
        (line,) = breakdown.compared(m.desk, [m.campaign])
        assert {k: line[k] for k in ("handed", "delivered", "opened", "unsubscribed")} == {
            k: whole[k] for k in ("handed", "delivered", "opened", "unsubscribed")
        }
        listed = breakdown.rates(m.desk)[campaigns.row_of(m.desk, m.campaign)["message"]]
        assert listed == (whole["delivered"], whole["opened"], whole["clicked"])
        text = breakdown.in_text(m.desk, m.campaign, breakdown.divided(m.desk, m.campaign))
        assert f"Opened by people {whole['opened']:,} of {whole['delivered']:,}" in text
        rows = list(csv.DictReader(io.StringIO(results.as_csv(m.desk, m.campaign).split("\r\n\r\n")[0])))
        assert sum(int(r["opened_by_people"]) for r in rows if r["pass"] == "first") == whole["opened"]
        # arms and held back are everybody the lot drew, each once
        again = ledger.of_campaign(m.desk.store.read(), m.campaign, "resend")
        assert sum(a["people"] for a in found["arms"]) == len(again)
        assert (
            found["answered_first"] + sum(a["answered"] for a in found["arms"] if a["arm"] != "Held back")
            >= found["answered_all"] - next(a for a in found["arms"] if a["arm"] == "Held back")["answered"]
        )
        why = {x["words"]: x["count"] for x in found["why_not"]}
        assert why["Planned"] + sum(n for n in why.values() if n < 0) == why["Handed over"] == whole["handed"]


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
    with m.desk.store.atomic() as db:
        workspace.set_setting(db, "relay_port", port)
    try:
        yield handler
    finally:
        relay.stop()


@pytest.mark.parametrize("arrived", [True, False])
def test_a_connection_that_breaks_after_data_leaves_doubt_for_the_analyst(folder: Path, arrived: bool) -> None:
    """Nothing is guessed: those people are shown, the others get it once, and the analyst's word settles it."""
    doubtful = {"p1@postern.example", "p4@saltmere.example", "p7@postern.example"}
    with mailing(folder, 20) as m, another_relay(m, Dropping(doubtful)) as relay:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        rows = ledger.of_campaign(m.desk.store.read(), m.campaign, "first")
        assert Counter(d["state"] for d in rows) == {"handed over": 17, "in doubt": 3}
        assert relay.taken == Counter(m.world.habits.email.tolist()), "each was tried once"
        said = [d for d in today.decisions(m.desk, m.desk.view()) if d["kind"] == "In doubt"]
        assert said[0]["title"] == "3 people of Harbour nights may or may not have got it."
        for _ in range(3):
            set_clock(m.desk, m.desk.now() + 9 * HOUR)
            assert sending.send_due(m.desk, m.tokens) == 0, "nobody is sent it again by itself"
        assert unconfirmed.settle(m.desk, m.campaign, arrived, "test") == 3
        sending.send_due(m.desk, m.tokens)
        assert sum(relay.taken.values()) == (20 if arrived else 23)
        states = Counter(d["state"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first"))
        assert states == {"handed over": 20}
        sent = m.desk.store.read().execute("SELECT count(*) AS n FROM events WHERE kind = 1").fetchone()["n"]
        assert sent == 20, "one hand-over each in the history"


@pytest.mark.parametrize("act", ["hold", "stop"])
def test_holding_takes_effect_within_a_batch(folder: Path, act: str) -> None:
    """A slow relay, one batch of 300: what is on its way is finished, nothing more begins."""
    with mailing(folder, 300) as m, another_relay(m, Slow(set())) as relay:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        thread = threading.Thread(target=sending.send_due, args=(m.desk, m.tokens))
        thread.start()
        while sum(relay.taken.values()) < 30:
            time.sleep(0.002)
        getattr(campaigns, act)(m.desk, m.campaign, "test")
        at = sum(relay.taken.values())
        thread.join()
        lines = int(m.desk.setting("connections"))
        assert sum(relay.taken.values()) - at <= 2 * lines, "at most what each connection had begun"
        states = Counter(d["state"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first"))
        assert states["handed over"] == sum(relay.taken.values()) and sum(states.values()) == 300
        assert states["waiting" if act == "hold" else "passed over"] == 300 - states["handed over"]
        if act == "hold":
            campaigns.go_on(m.desk, m.campaign, "test")
            sending.send_due(m.desk, m.tokens)
            assert max(relay.taken.values()) == 1 and len(relay.taken) == 300


BATCH = ("waiting", "going out", "gone", "held", "stopped")
PLAN = ("draft", "planned", "sending", "held", "finished", "stopped")


def test_which_batches_are_due(folder: Path) -> None:
    """Every state of a batch and of its plan, with and without somebody waiting, before and after its moment."""
    with mailing(folder, 4) as m:
        due: set[tuple[str, str, bool, bool]] = set()
        names: dict[int, tuple[str, str, bool, bool]] = {}
        with m.desk.store.atomic() as db:
            for b in BATCH:
                for p in PLAN:
                    for waits in (True, False):
                        for late in (True, False):
                            what = (b, p, waits, late)
                            id = campaign_table.add(db, json.dumps(what), 1, NOW)
                            campaign_table.update(db, id, {"state": p})
                            q = ledger.add_pass(db, id, "first")
                            batch = ledger.add_batch(db, q, 1, NOW - 60 if late else NOW + 60, 1)
                            ledger.set_batch(db, batch, b)
                            state = "waiting" if waits else "handed over"
                            ledger.add_deliveries(db, [(q, batch, 1, 0, 0, state, None)])
                            names[batch] = what
            due = {names[r["id"]] for r in ledger.due_batches(db, NOW)}
        running = {
            (b, p, w, True) for b in ("waiting", "going out") for p in ("planned", "sending") for w in (True, False)
        }
        second_tries = {("gone", p, True, True) for p in ("planned", "sending", "finished")}
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
    with m.desk.store.atomic() as db:
        for name, value in settings.items():
            workspace.set_setting(db, name, value)


def test_word_is_sent_once_and_waits_for_the_morning(folder: Path, ear: str) -> None:
    with mailing(folder, 6) as m:
        assert words.tend(m.desk) == 0, "nobody is to have word"
        with pytest.raises(Refused, match="Nobody is chosen"):
            words.send(m.desk, "x", "y")
        tell(m, word_url=ear, quiet_hours="8-11")
        with m.desk.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"state": "held", "held_why": "Complaints at Postern."})
        assert words.tend(m.desk) == 0 and not Ear.heard, "it is 09:42, a quiet hour here"
        set_clock(m.desk, NOW + 2 * HOUR)
        assert words.tend(m.desk) == 1 and words.tend(m.desk) == 0, "once"
        assert Ear.heard[0]["text"] == "Harbour nights is held. Complaints at Postern."
        assert Ear.heard[0]["link"].endswith(f"/campaigns/{m.campaign}/plan")
        with m.desk.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"held_why": "Hard bounces at Brinebox."})
        assert words.tend(m.desk) == 1, "another reason is other news"
        tell(m, word_url="ftp://chat.example/hook")
        with pytest.raises(Refused, match="it is no web address"):
            words.send(m.desk, "x", "y")
        tell(m, word_url=f"http://127.0.0.1:{free_port()}/hook")
        with pytest.raises(Refused, match="did not take the word"):
            words.send(m.desk, "x", "y")


@pytest.mark.parametrize(
    ("span", "hours"),
    [("22-7", {22, 23, 0, 1, 2, 3, 4, 5, 6}), ("8-11", {8, 9, 10}), ("", set()), ("night", set()), ("7-7", set())],
)
def test_quiet_hours(folder: Path, span: str, hours: set[int]) -> None:
    with mailing(folder, 2) as m:
        tell(m, quiet_hours=span)
        found = set()
        for hour in range(24):
            set_clock(m.desk, NOW - NOW % DAY + hour * HOUR)
            if words.quiet(m.desk):
                found.add(hour)
        assert found == hours


def test_a_jump_in_complaints_is_worth_a_word(folder: Path) -> None:
    with mailing(folder, 40) as m:
        other = ready_campaign(m.desk, "Jump")
        campaigns.write(m.desk, other, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, other, "test")
        sending.send_due(m.desk, m.tokens)
        assert words.jumps(m.desk) == []
        message = campaigns.row_of(m.desk, other)["message"]
        with m.desk.store.atomic() as db:
            rows = [(NOW + 60, int(Kind.COMPLAINED), s, message, 0, 0, 0.0, None, None, f"c{s}") for s in range(2, 14, 2)]
            events.add(db, rows)
        set_clock(m.desk, NOW + HOUR)
        (jump,) = words.jumps(m.desk)
        assert jump["title"] == "Complaints at Postern." and "6 complaints of 20" in jump["detail"]


def test_every_figure_agrees_on_one_history(folder: Path) -> None:
    """Refused while it was sent, bounced later, complained: the same everywhere, however it came to be."""
    gone = np.full(60, 2**40)
    gone[[1, 3, 5]] = 0
    with mailing(folder, 60, gone=gone) as m:
        m.world.habits.email[7] = "nobody@tidewatch.example"
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        if campaigns.row_of(m.desk, m.campaign)["state"] == "held":
            campaigns.go_on(m.desk, m.campaign, "test")
            sending.send_due(m.desk, m.tokens)
        set_clock(m.desk, NOW + 3600)
        ids = {d["subscriber"]: d["id"] for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first")}
        for s in (11, 21):
            answers.happened(m.desk, ids[s], Kind.BOUNCED, code="5.1.1", diagnostic="550 5.1.1 gone")
        answers.happened(m.desk, ids[31], Kind.COMPLAINED)
        found = results.results(m.desk, m.campaign)
        (batch,) = found["batches"]
        assert (found["handed"], found["delivered"]) == (60, 55) == (batch["handed"], batch["delivered"])
        assert batch["bounced"] == 5 and batch["complained"] == 1
        (line,) = breakdown.compared(m.desk, [m.campaign])
        assert (line["handed"], line["delivered"], line["bounced"], line["complained"]) == (60, 55, 5, 1)
        divided = breakdown.divided(m.desk, m.campaign)
        assert sum(x["handed"] - x["delivered"] for x in divided["by"][0]["lines"]) == 5
        assert breakdown.rates(m.desk)[campaigns.row_of(m.desk, m.campaign)["message"]][0] == 55
        told = health.providers(m.desk, m.desk.view())
        assert [sum(sum(p["days"][k]) for p in told) for k in ("handed over", "hard bounces", "complaints")] == [60, 5, 1]
        today_told = today.providers(m.desk, m.desk.view())
        assert [sum(p[k] for p in today_told) for k in ("handed_over", "bounced", "complained")] == [60, 5, 1]
        trace = Counter(people.trace(m.desk.view(), i)[-1] for i in range(60))
        assert trace["b"] == 5, "on the table and the person's page"
        with m.desk.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"guard_from": 0})
        whole = guarding.counts(m.desk, m.campaign, 0)["first", (guarding.WHOLE, "")]
        assert (whole["tried"], whole["hard bounces"], whole["complaints"]) == (60, 5, 1)
