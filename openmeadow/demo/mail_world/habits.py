"""The hidden traits of the demo's people: drawn once from a seed, used for their history and for their future."""

from __future__ import annotations

from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from openmeadow.core.arrays import Array
from openmeadow.core.moments import DAY, HOUR

PROVIDERS = (("lanternmail.example", 0.36), ("postern.example", 0.25), ("brinebox.example", 0.13))
FIRST = (
    "Mira Otto Ines Jonas Selma Piet Alva Ruben Nora Emil Tilda Oskar Juno Mats Linnea Hugo Elin Teo Vera Ivo "
    "Marta Anton Signe Bruno Lea Casper Dora Felix Greta Hanno Iris Jasper Kaja Leon Mina Nils Olga Pelle Rosa "
    "Sten Thea Ulf Vida Wanda Yara Arlo Bea Cleo"
).split()
LAST = (
    "Harrow Quill Saltmere Brandt Fenwick Lindal Marsh Oake Pell Ravn Sorrel Tarn Under Vane Wick Yarrow Amber "
    "Birk Carrow Dahl Ember Fjeld Garth Holm Inger Juniper Keld Larch Moor Nesse Orley Pike Rook Stane Thorn "
    "Ulver Vester Whin Aske Bryn"
).split()
TOWNS = ("Saltmere", "Harbourgate", "Northwick", "Quaymouth", "Elder Point", "Lowmarsh")


@dataclass(frozen=True)
class Habits:
    """One row a person. ``open``: chance to open a message; ``click``: chance to click once opened;
    ``proxy``: machines open all their mail; ``sweeps``: a scanner follows every link at once;
    ``until``: the moment after which they stopped; ``gone``: the moment their mailbox went away."""

    email: Array
    name: Array
    town: Array
    zone: Array
    joined: Array
    source: Array
    open: Array
    click: Array
    proxy: Array
    sweeps: Array
    until: Array
    gone: Array
    phones: Array
    complains: Array
    family: Array

    def __len__(self) -> int:
        return len(self.email)

    def save(self, path: Path) -> None:
        np.savez(path, **{f.name: getattr(self, f.name) for f in fields(self)})

    @staticmethod
    def load(path: Path) -> Habits:
        with np.load(path) as data:
            return Habits(**{f.name: data[f.name] for f in fields(Habits)})


FAR = 2**40
SOURCES = ("Foyer form", "Website", "Box office", "Autumn fair paper form", "Hall guests 2024")


IN_SPAM = 0.03  # of a chance to open what lies in the spam folder
THROW_AWAY = "burnbox.example"
ROLES = ("info", "office", "admin", "press")


def _roles_and_throw_aways(email: Array, host: Array, own: list[str]) -> None:
    """A few addresses read by a role rather than by a person, and a few that are thrown away; in place."""
    for d, domain in enumerate(own[:12]):
        mine = np.flatnonzero(host == domain)[3:4]
        email[mine] = f"{ROLES[d % len(ROLES)]}@{domain}"
    for i in np.flatnonzero(host == PROVIDERS[1][0])[400::600].tolist():
        email[i] = f"{str(email[i]).partition('@')[0]}@{THROW_AWAY}"


def _hosts(r: np.random.Generator, n: int, domains: list[str], mistyped: Array) -> tuple[Array, list[str]]:
    """The domain of each address, and the domains that are nobody's provider."""
    shares = [s for _, s in PROVIDERS]
    own = [f"{a.lower()}-{b.lower()}.example" for a, b in zip(LAST[:30], TOWNS * 5, strict=True)]
    own = [d.replace(" ", "") for d in own] + ["tidewatch.example"]
    pick = r.random(n)
    host = np.where(
        pick < shares[0],
        domains[0],
        np.where(pick < sum(shares[:2]), domains[1], np.where(pick < sum(shares), domains[2], r.choice(own, n))),
    )
    host = np.where(mistyped, r.choice(["lanternmial.example", "postren.example", "brinebx.example"], n), host)
    return host, own


def draw(people: int, now: int, seed: int = 7) -> Habits:
    """``people`` made-up subscribers of Kestrel Quay as of ``now``."""
    r = np.random.default_rng(seed)
    n = people
    joined = now - (r.beta(0.9, 2.1, n) * 900 * DAY).astype(np.int64) - HOUR
    source = r.choice(len(SOURCES), n, p=[0.32, 0.38, 0.244, 0.006, 0.05])
    joined[source == 3] = now - 150 * DAY + r.integers(0, 6 * HOUR, int((source == 3).sum()))
    joined[source == 4] = now - 300 * DAY
    joined[(r.random(n) < 0.05) & (source < 3)] = now - r.integers(DAY, 24 * DAY, 1)[0]
    fresh = (r.random(n) < 0.05) & (source < 3)
    joined[fresh] = now - r.integers(DAY, 26 * DAY, int(fresh.sum()))
    opening = r.beta(1.0, 1.5, n)
    opening[r.random(n) < 0.16] *= 0.04
    until = np.full(n, FAR, np.int64)
    summer = now - 190 * DAY
    stopped = (r.random(n) < 0.13) & (joined < summer - 60 * DAY)
    until[stopped] = summer + r.integers(-20 * DAY, 30 * DAY, int(stopped.sum()))
    drifting = (r.random(n) < 0.12) & ~stopped
    until[drifting] = joined[drifting] + r.integers(40 * DAY, 500 * DAY, int(drifting.sum()))
    phones = r.random(n) < 0.012
    opening[phones] = 0.0
    domains, mistyped = [d for d, _ in PROVIDERS], source == 3
    host, own = _hosts(r, n, domains, mistyped)
    gone = np.full(n, FAR, np.int64)
    gone[host == "tidewatch.example"] = now - 24 * DAY
    gone[mistyped] = 0
    lost = (r.random(n) < 0.025) & ~mistyped
    gone[lost] = now - r.integers(-60 * DAY, 400 * DAY, int(lost.sum()))
    first, last = r.choice(FIRST, n), r.choice(LAST, n)
    email = np.array(
        [f"{a.lower()}.{b.lower()}{i}@{h}" for i, (a, b, h) in enumerate(zip(first, last, host, strict=True))]
    )
    _roles_and_throw_aways(email, host, own)
    proxy = ((host == domains[0]) & (r.random(n) < 0.22)) | (r.random(n) < 0.01)
    return Habits(
        email=email,
        name=np.array([f"{a} {b}" for a, b in zip(first, last, strict=True)]),
        town=r.choice(TOWNS, n),
        zone=r.choice(["", "", "", "Europe/Lisbon", "Europe/Berlin"], n),
        joined=joined,
        source=source,
        open=opening,
        click=r.beta(1.2, 5.0, n),
        proxy=proxy,
        sweeps=np.isin(host, own[:8]) & (r.random(n) < 0.5),
        until=until,
        gone=gone,
        phones=phones,
        complains=np.where(r.random(n) < 0.004, 0.05, 0.00004),
        family=r.random(n) < 0.28,
    )


def chance_to_open(h: Habits, at: int) -> Array:
    """Each person's true chance to open a message that reaches the inbox at a moment."""
    return np.where(at < h.until, h.open, 0.0)
