"""The models of a workspace: one for everybody, one on clicks alone for those whose reading cannot be seen, and sources
with an alpha and beta of their own."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from openmeadow.core.arrays import F64, I32, Mask
from openmeadow.core.engagement.bands import USUAL_SETTLED
from openmeadow.core.engagement.chance import Adjustment, ChanceModel
from openmeadow.core.engagement.chance_fit import DEFAULT
from openmeadow.core.engagement.counted import Counts

CLICKS = ChanceModel(0.3, 3.0, 1.0, 40.0)  # of clicks, while there is not enough history


@dataclass(frozen=True)
class ChanceModels:
    """``sources`` by their id; ``fitted_at`` 0 for the defaults; ``settled`` as in ``Cadence``, as it was then."""

    reading: ChanceModel = DEFAULT
    clicking: ChanceModel = CLICKS
    sources: dict[int, ChanceModel] = field(default_factory=dict)
    fitted_at: int = 0
    settled: int = USUAL_SETTLED

    def of(self, c: Counts, source: I32, hidden: Mask) -> tuple[F64, F64]:
        """The chances to be active and to engage; for those whose reading is hidden, whose counts are of clicks, to
        click."""
        active, chance = self.reading.active(c.x, c.t, c.n), self.reading.chance(c.x, c.t, c.n)
        several = [(m, ~hidden & (source == s)) for s, m in self.sources.items()]
        for model, mine in ((self.clicking, hidden), *several):
            if mine.any():
                x, t, n = c.x[mine], c.t[mine], c.n[mine]
                active[mine], chance[mine] = model.active(x, t, n), model.chance(x, t, n)
        return active, chance

    def adjusted(self, reading: Adjustment) -> ChanceModels:
        """With the chances to engage moved to what the last mailings showed."""
        sources = {s: replace(m, adjustment=reading) for s, m in self.sources.items()}
        return replace(self, reading=replace(self.reading, adjustment=reading), sources=sources)

    def model_of(self, source: int, *, hidden: bool) -> ChanceModel:
        """The one that somebody is judged by."""
        return self.clicking if hidden else self.sources.get(source, self.reading)
