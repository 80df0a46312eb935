"""What the cells of a file mean: consent in the words people write, and values that its reader says stand for others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from openmeadow.core.consent.eligibility import CONSENT_STATES

_YES = "yes y true 1 x on ja j oui o si sí sim s tak kyllä igen given granted opted_in opt-in opt_in optin subscribed"
_NO = "no n false 0 off nein nee nej nei non não nao nie ei nem none never"
_LEFT = "withdrawn unsubscribed opted_out opt-out opt_out optout"
_STATE_OF = {
    **dict.fromkeys(_YES.split(), "given"),
    **dict.fromkeys(_NO.split(), "none"),
    **dict.fromkeys(_LEFT.split(), "withdrawn"),
    "pending": "pending",
}
SHOWN = 20  # different values of a column


def consent_state(cell: str) -> int | None:
    """The place in CONSENT_STATES of a word for consent, in several languages; None where it is none. A plain no says that
    nothing was agreed to, not that it was withdrawn."""
    word = _STATE_OF.get(cell.strip().lower())
    return None if word is None else CONSENT_STATES.index(word)


def mapped(cell: str, values: Mapping[str, str] | None) -> str:
    """What a cell stands for, where its reader said so (letter case aside)."""
    return cell if not values else values.get(cell.strip().lower(), cell)


def different(cells: Sequence[str]) -> list[tuple[str, int]]:
    """The values of a column with how often each is there, the most frequent first; none where there are too many."""
    found = Counter(c.strip() for c in cells if c.strip())
    return found.most_common() if len(found) <= SHOWN else []
