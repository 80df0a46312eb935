"""The demo's past: 18 months of Kestrel Quay's sends, written as the two files people bring to the program."""

from __future__ import annotations

import csv
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from openmeadow.core.arrays import I64, Array, Mask
from openmeadow.core.moments import DAY, HOUR
from openmeadow.demo.mail_world.habits import FAR, IN_SPAM, SOURCES, Habits, chance_to_open

PERSON_AGENTS = ("DemoWebReader/4.1", "DemoPhoneReader/12.3", "DemoDeskReader/8.0")
PROXY_AGENT, SCANNER_AGENT = "PrivacyProxy/2.0", "QuayScanner/3.3"
PERSON_IP, PROXY_IP, SCANNER_IP = "198.51.100.{}", "203.0.113.{}", "192.0.2.{}"
TITLES = (
    "Harbour nights",
    "Strings at low tide",
    "The winter organ",
    "New voices",
    "Brass on the quay",
    "A cellist's year",
    "Late hours",
    "Songs of the north",
    "The long piano",
    "Open rehearsal",
)
SITE = "https://www.kestrelquay.example"


def stamp(at: int) -> str:
    """A moment as RFC 3339 in UTC."""
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def mailings(now: int) -> list[tuple[int, str, str]]:
    """(moment, name, purpose) of every past mailing, oldest first; the last Season news went out a week ago."""
    out = []
    for week in range(78, 0, -1):
        at = now - week * DAY * 7 + 1800
        day = datetime.fromtimestamp(at, UTC)
        out.append((at, f"{TITLES[week % len(TITLES)]}, {day:%d %b %Y}", "Season news"))
    for month in range(18, 0, -1):
        at = now - month * 30 * DAY + 2 * DAY + 7200
        out.append((at, f"Family concerts, {datetime.fromtimestamp(at, UTC):%B %Y}", "Family concerts"))
    for n, ago in enumerate((480, 330, 150, 45)):
        out.append((now - ago * DAY, f"Patron appeal {n + 1}", "Patron appeals"))
    return sorted(out)


class _Log:
    """Event rows gathered as arrays and written in time order."""

    def __init__(self) -> None:
        self.rows: list[tuple[int, str]] = []

    def add(
        self,
        at: Array,
        event: str,
        email: Array,
        message: str,
        agent: str = "",
        ip: str = "",
        url: str = "",
        tail: str = ",,",
    ) -> None:
        """``tail`` holds code, diagnostic and value, quoted as CSV needs it."""
        self.rows.extend(
            (t, f'{e},"{message}",{url},{agent},{ip},{tail}')
            for t, e in zip(at.tolist(), np.char.add(f"{event},", email).tolist(), strict=True)
        )

    def write(self, path: Path) -> int:
        self.rows.sort(key=lambda r: r[0])
        known: dict[int, str] = {}
        with path.open("w", encoding="utf-8", newline="") as f:
            f.write("at,event,email,message,url,agent,ip,code,diagnostic,value\n")
            f.writelines(f"{known.get(t) or known.setdefault(t, stamp(t))},{rest}\n" for t, rest in self.rows)
        return len(self.rows)


def write_subscribers(h: Habits, path: Path, now: int) -> None:
    """The subscribers CSV; the bought-in list carries no consent, some people still await confirmation."""
    r = np.random.default_rng(11)
    pending = (h.joined > now - 12 * DAY) & (r.random(len(h)) < 0.2)
    patron = r.random(len(h)) < 0.06
    with path.open("w", encoding="utf-8", newline="") as f:
        out = csv.writer(f)
        out.writerow(
            [
                "email",
                "name",
                "joined_at",
                "list",
                "labels",
                "time_zone",
                "town",
                *(
                    f"{c}:{p}"
                    for p in ("Season news", "Family concerts", "Patron appeals")
                    for c in ("consent", "consent_source")
                ),
            ]
        )
        for i in range(len(h)):
            name = SOURCES[h.source[i]]
            state = "none" if h.source[i] == 4 else "pending" if pending[i] else "given"
            source = "" if state == "none" else name
            out.writerow(
                [
                    h.email[i],
                    h.name[i],
                    stamp(int(h.joined[i])),
                    name,
                    "patron" if patron[i] else "",
                    h.zone[i],
                    h.town[i],
                    state,
                    source,
                    state if h.family[i] else "none",
                    source if h.family[i] else "",
                    state if patron[i] else "none",
                    source if patron[i] else "",
                ]
            )


def _by_machines(log: _Log, h: Habits, r: np.random.Generator, who: I64, went: I64, message: str) -> Mask:
    """Opens by privacy proxies, clicks by link scanners; whose mail a proxy reads."""
    proxied = h.proxy[who]
    m = who[proxied]
    log.add(
        went[proxied] + r.integers(20, HOUR, len(m)),
        "opened",
        h.email[m],
        message,
        PROXY_AGENT,
        PROXY_IP.format(130 + len(m) % 50),
    )
    swept = np.flatnonzero(h.sweeps[who])
    for i, slug in enumerate(("programme", "tickets", "visit")):
        log.add(
            went[swept] + 1 + i,
            "clicked",
            h.email[who[swept]],
            message,
            SCANNER_AGENT,
            SCANNER_IP.format(7),
            f"{SITE}/{slug}",
        )
    return proxied


def _by_telephone(log: _Log, h: Habits, r: np.random.Generator, now: int) -> None:
    """Bookings of people who never open but call."""
    callers = np.flatnonzero(h.phones)
    for _ in range(3):
        called = now - r.integers(DAY, 300 * DAY, len(callers))
        fine = called > h.joined[callers]
        log.rows.extend(
            (int(t), f"booked,{e},,,,,,,{v}")
            for t, e, v in zip(called[fine], h.email[callers[fine]], r.integers(20, 140, int(fine.sum())), strict=True)
        )


def write_events(h: Habits, path: Path, now: int, seed: int = 13) -> int:
    """The event log of all past mailings; the number of events."""
    r = np.random.default_rng(seed)
    log, n = _Log(), len(h)
    left = np.zeros(n, bool)  # unsubscribed, complained or bounced for good
    again = np.random.default_rng(11)
    again.random(n)
    patron = again.random(n) < 0.06
    brinebox = np.char.endswith(h.email, "@brinebox.example")
    last = max(at for at, _, purpose in mailings(now) if purpose == "Season news")
    for at, message, purpose in mailings(now):
        to = (h.joined < at) & ~left & (h.source != 4)
        if purpose == "Family concerts":
            to &= h.family
        elif purpose == "Patron appeals":
            to &= patron
        who = np.flatnonzero(to)
        went = at + r.integers(0, 1800, len(who))
        log.add(went, "sent", h.email[who], message)
        bounced = h.gone[who] <= went
        log.add(went[bounced] + 4, "bounced", h.email[who[bounced]], message, tail="550,5.1.1 no such user here,")
        left[who[bounced]] = True
        if at > now - 22 * DAY:
            slow = np.flatnonzero(brinebox[who] & ~bounced & (r.random(len(who)) < 0.3))
            log.add(went[slow] + 1, "deferred", h.email[who[slow]], message, tail="451,4.7.1 too much mail,")
        who, went = who[~bounced], went[~bounced]
        proxied = _by_machines(log, h, r, who, went, message)
        boost = 1.15 if purpose != "Patron appeals" else 0.9
        placed = np.where((at == last) & brinebox[who], IN_SPAM, boost)  # too much mail for it, and the last one shows it
        opened = r.random(len(who)) < np.minimum(0.97, chance_to_open(h, at)[who] * placed)
        delay = np.minimum(r.lognormal(9.1, 1.5, len(who)), 12 * DAY).astype(np.int64) + 15
        seen = opened & ~proxied & (went + delay < now)
        for k, agent in enumerate(PERSON_AGENTS):
            mine = np.flatnonzero(seen & (who % len(PERSON_AGENTS) == k))
            log.add(went[mine] + delay[mine], "opened", h.email[who[mine]], message, agent, PERSON_IP.format(1 + k))
        clicked = np.flatnonzero(opened & (r.random(len(who)) < h.click[who]) & (went + delay + 40 < now))
        log.add(
            went[clicked] + delay[clicked] + 40,
            "clicked",
            h.email[who[clicked]],
            message,
            PERSON_AGENTS[0],
            PERSON_IP.format(1),
            f"{SITE}/{('programme', 'tickets', 'visit')[len(message) % 3]}",
        )
        booked = clicked[r.random(len(clicked)) < 0.09]
        log.add(
            went[booked] + delay[booked] + 900, "booked", h.email[who[booked]], message, tail=f",,{30 + len(message)}"
        )
        gone = opened & (r.random(len(who)) < 0.0012) & (went + delay < now)
        log.add((went + delay + 60)[gone], "unsubscribed", h.email[who[gone]], message)
        cross = (r.random(len(who)) < h.complains[who]) & (went + 7200 < now)
        log.add((went + 7200)[cross], "complained", h.email[who[cross]], message)
        left[who[gone | cross]] = True
    _by_telephone(log, h, r, now)
    return log.write(path)


def make(folder: Path, people: int, now: int) -> None:
    """Write subscribers.csv, events.csv and the hidden traits into ``folder``."""
    from openmeadow.demo.mail_world.habits import draw

    folder.mkdir(parents=True, exist_ok=True)
    h = draw(people, now)
    h.save(folder / "people.npz")
    write_subscribers(h, folder / "subscribers.csv", now)
    write_events(h, folder / "events.csv", now)


__all__ = ["FAR", "mailings", "make"]
