"""Who opened or clicked: a person, a machine, or unsure.

A machine is: a listed agent or network; within 3 s of the provider's acceptance; a fetched trap link
(and everything within 10 s of it); or, in a message with three or more links, all of its links by one
subscriber within 10 s. Listed goes before unsure; unsure has brought neither agent nor network.
"""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt

from openmeadow.core.events import Kind, RawEvents

PERSON, MACHINE, UNSURE = 0, 1, 2
WORDS = ("person", "machine", "unsure")
# why: what decided; the first that applies, in this order after "unsure"
REASONS = (
    "nothing speaks against a person",
    "neither agent nor network is known",
    "its agent or network is on the list",
    "the link no person sees was fetched",
    "within 3 seconds of the provider's acceptance",
    "every link of the message within 10 seconds",
)
_NOTHING, _BLIND, _LISTED, _TRAPPED, _INSTANT, _SWEPT = range(6)
BY_OF_REASON = np.array([PERSON, UNSURE, MACHINE, MACHINE, MACHINE, MACHINE], np.int8)
AT_ONCE_SECONDS = 3
SWEEP_SECONDS = 10
SWEEP_LINKS = 3


def _pair(person: npt.NDArray[np.int32], message: npt.NDArray[np.int32]) -> npt.NDArray[np.int64]:
    return (person.astype(np.int64) << 34) | message.astype(np.int64)


def _at_once(ev: RawEvents, pair: npt.NDArray[np.int64], look: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """Looks within 3 s of the latest acceptance before them (``delivered``, else ``sent``)."""
    hit = np.zeros(len(ev.at), bool)
    accepted = (ev.kind == Kind.DELIVERED) | (ev.kind == Kind.SENT)
    if not accepted.any() or not look.any():
        return hit
    # a delivered event takes the place of the sent it follows: sort by pair, time and look back
    sent, target = np.flatnonzero(accepted), np.flatnonzero(look)
    order = np.lexsort((ev.kind[sent], ev.at[sent], pair[sent]))
    sent = sent[order]
    begin = int(min(ev.at[sent].min(), ev.at[target].min()))
    rank = np.unique(np.concatenate((pair[sent], pair[target])), return_inverse=True)[1].astype(np.int64)
    span = int(max(ev.at[sent].max(), ev.at[target].max())) - begin + 1
    line = rank[: len(sent)] * span + (ev.at[sent] - begin)
    spot = rank[len(sent) :] * span + (ev.at[target] - begin)
    before = np.searchsorted(line, spot, side="right") - 1
    ok = before >= 0
    last = sent[np.maximum(before, 0)]
    ok &= (pair[last] == pair[target]) & (ev.at[target] - ev.at[last] <= AT_ONCE_SECONDS)
    hit[target[ok]] = True
    return hit


def _sweeps(ev: RawEvents, pair: npt.NDArray[np.int64], link_counts: npt.NDArray[np.int32]) -> npt.NDArray[np.bool_]:
    """Clicks by which one subscriber fetched all links of a message of three or more within 10 s."""
    hit = np.zeros(len(ev.at), bool)
    clicks = np.flatnonzero((ev.kind == Kind.CLICKED) & (ev.link > 0) & ~ev.trap)
    if len(clicks) < SWEEP_LINKS:
        return hit
    wanted = link_counts[ev.message[clicks]]
    clicks, wanted = clicks[wanted >= SWEEP_LINKS], wanted[wanted >= SWEEP_LINKS]
    if not len(clicks):
        return hit
    order = np.lexsort((ev.at[clicks], pair[clicks]))
    clicks, wanted = clicks[order], wanted[order]
    edges = np.flatnonzero(np.diff(pair[clicks], prepend=-1, append=-1))
    for a, b in itertools.pairwise(edges):
        need = int(wanted[a])
        if b - a < need:
            continue
        at, link = ev.at[clicks[a:b]], ev.link[clicks[a:b]]
        for i in range(b - a - need + 1):
            end = int(np.searchsorted(at, at[i] + SWEEP_SECONDS, side="right"))
            if len(set(link[i:end].tolist())) >= need:
                hit[clicks[a + i : a + end]] = True
    return hit


def reasons(ev: RawEvents, link_counts: npt.NDArray[np.int32]) -> npt.NDArray[np.int8]:
    """For every event the place in REASONS that decides who it was (0 for what is neither an open nor a click);
    ``BY_OF_REASON`` turns it into PERSON, MACHINE or UNSURE.

    ``link_counts[m]`` is the number of links message m carries.
    """
    why = np.zeros(len(ev.at), np.int8)
    look = (ev.kind == Kind.OPENED) | (ev.kind == Kind.CLICKED)
    if not look.any():
        return why
    why[look & ev.blind] = _BLIND
    pair = _pair(ev.person, ev.message)
    why[look & _sweeps(ev, pair, link_counts)] = _SWEPT
    why[look & _at_once(ev, pair, look)] = _INSTANT
    for t in np.flatnonzero(look & ev.trap):
        why[look & (pair == pair[t]) & (np.abs(ev.at - ev.at[t]) <= SWEEP_SECONDS)] = _TRAPPED
    why[look & ev.trap] = _TRAPPED
    why[look & ev.machine_listed] = _LISTED
    return why
