"""Where everybody stands, as SQL over the exported tables: what counts for the chance (x, t, n), the chance, the band.

The statements are fixed, written once in one dialect and read into trees; moments and limits are put in as values. They
say what ``engagement/counted.py``, ``score.py`` and ``bands.py`` say, and a test holds them against these."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache

import sqlglot
from sqlglot import exp

from openmeadow.core.engagement.bands import FEW_ENGAGED, FEW_IGNORED, FEW_MACHINE
from openmeadow.core.engagement.chance import MOST
from openmeadow.core.engagement.counted import FEW_BLIND
from openmeadow.core.moments import DAY
from openmeadow.core.warehouse.moment import Moment

STANDING = "standing"
_QUERIES = {
    # bookings and replies of no message count for the last message delivered before them
    "engaged_by_itself": """
        SELECT DISTINCT person, message FROM (
            SELECT e.person, d.message,
                ROW_NUMBER() OVER (PARTITION BY e.person, e.at ORDER BY d.first_at DESC, d.message DESC) AS place
            FROM (SELECT DISTINCT person, at FROM engagement
                  WHERE message IS NULL AND kind IN ('booked', 'replied') AND at <= :now) AS e
            JOIN deliveries AS d ON d.person = e.person AND d.first_at <= e.at
                AND (d.failed_at IS NULL OR d.failed_at > :now)
        ) AS nearest WHERE place = 1""",
    "last_engagement": """
        SELECT person, MAX(at) AS at FROM engagement WHERE made_by <> 'machine' AND at <= :now GROUP BY person""",
    "marks": """
        SELECT d.person, d.message, d.first_at,
            p.rejoined_at IS NULL OR d.first_at > p.rejoined_at AS fresh,
            l.at IS NULL OR d.first_at > l.at AS after_last,
            p.rejoined_at IS NULL OR d.first_at > p.rejoined_at AS after_rejoining,
            COALESCE(d.reacted_at <= :now, FALSE) OR i.person IS NOT NULL AS reacted,
            COALESCE(d.opened_at <= :now, FALSE) OR COALESCE(d.reacted_at <= :now, FALSE) OR i.person IS NOT NULL
                AS engaged,
            COALESCE(d.machine_at <= :now, FALSE) AS machine,
            COALESCE(d.machine_at <= :now, FALSE) AND (d.opened_at IS NULL OR d.opened_at > :now
                OR COALESCE(d.opened_at >= d.clicked_at, FALSE)) AS blind,
            d.first_at <= :settled AS settled,
            d.first_at > :edge AS in_window
        FROM deliveries AS d
        JOIN people AS p ON p.person = d.person
        LEFT JOIN engaged_by_itself AS i ON i.person = d.person AND i.message = d.message
        LEFT JOIN last_engagement AS l ON l.person = d.person
        WHERE d.first_at <= :now AND (d.failed_at IS NULL OR d.failed_at > :now)""",
    "sums": """
        SELECT person,
            SUM(CASE WHEN engaged THEN 1 ELSE 0 END) AS engaged,
            SUM(CASE WHEN engaged AND fresh THEN 1 ELSE 0 END) AS fresh_engaged,
            SUM(CASE WHEN after_last AND after_rejoining THEN 1 ELSE 0 END) AS ignored,
            MIN(CASE WHEN fresh THEN first_at END) AS first_delivered,
            SUM(CASE WHEN in_window THEN 1 ELSE 0 END) AS delivered_in_window,
            SUM(CASE WHEN in_window AND machine THEN 1 ELSE 0 END) AS machine_in_window,
            SUM(CASE WHEN in_window AND blind THEN 1 ELSE 0 END) AS blind_in_window
        FROM marks GROUP BY person""",
    "hidden": """
        SELECT person FROM sums WHERE blind_in_window * 2 >= delivered_in_window AND blind_in_window >= :few_blind""",
    "counted": """
        SELECT m.person, m.first_at, m.message,
            CASE WHEN h.person IS NULL THEN m.engaged ELSE m.reacted END AS mine,
            ROW_NUMBER() OVER (PARTITION BY m.person ORDER BY m.first_at, m.message) AS place,
            COUNT(*) OVER (PARTITION BY m.person) AS n
        FROM marks AS m LEFT JOIN hidden AS h ON h.person = m.person
        WHERE m.fresh AND CASE WHEN h.person IS NULL THEN m.engaged OR (m.settled AND NOT m.machine)
            ELSE m.reacted OR m.settled END""",
    "counts": """
        SELECT person,
            SUM(CASE WHEN mine AND place > n - :most THEN 1 ELSE 0 END) AS x,
            GREATEST(MAX(CASE WHEN mine AND place > n - :most THEN place ELSE 0 END) - GREATEST(MAX(n) - :most, 0), 0) AS t,
            LEAST(MAX(n), :most) AS n
        FROM counted GROUP BY person""",
    "known": """
        SELECT p.person, p.provider, COALESCE(c.x, 0) AS x, COALESCE(c.t, 0) AS t, COALESCE(c.n, 0) AS n,
            CASE WHEN h.person IS NULL THEN p.model ELSE 'clicking' END AS model,
            CASE WHEN p.rejoined_at IS NULL OR l.at > p.rejoined_at THEN l.at END AS last_engaged,
            l.at AS last_ever,
            COALESCE(s.engaged, 0) AS engaged, COALESCE(s.fresh_engaged, 0) AS fresh_engaged,
            COALESCE(s.ignored, 0) AS ignored, s.first_delivered,
            COALESCE(s.delivered_in_window, 0) AS delivered_in_window,
            COALESCE(s.machine_in_window, 0) AS machine_in_window
        FROM people AS p
        LEFT JOIN sums AS s ON s.person = p.person
        LEFT JOIN counts AS c ON c.person = p.person
        LEFT JOIN hidden AS h ON h.person = p.person
        LEFT JOIN last_engagement AS l ON l.person = p.person""",
    STANDING: """
        SELECT k.person, k.provider, k.x, k.t, k.n, k.model, k.engaged, k.ignored, k.last_ever, h.active, h.chance,
            CASE
                WHEN k.last_engaged IS NULL
                    AND (k.ignored < :few_ignored OR k.first_delivered IS NULL OR k.first_delivered > :edge)
                    THEN 'Unproven'
                WHEN (k.last_engaged IS NULL OR k.last_engaged <= :edge)
                    AND k.machine_in_window * 2 >= k.delivered_in_window AND k.machine_in_window >= :few_machine
                    THEN 'Masked'
                WHEN k.last_engaged IS NULL OR (k.last_engaged <= :edge AND k.ignored >= :few_ignored) THEN 'Inactive'
                WHEN k.last_engaged <= :half THEN 'Fading'
                WHEN 100.0 * h.chance >= :strong AND k.fresh_engaged >= :few_engaged THEN 'Strong'
                WHEN 100.0 * h.chance >= :steady THEN 'Steady'
                ELSE 'Fading'
            END AS band
        FROM known AS k JOIN chances AS h ON h.model = k.model AND h.x = k.x AND h.t = k.t AND h.n = k.n""",
}


@cache
def _trees() -> Mapping[str, exp.Query]:
    read = {name: sqlglot.parse_one(sql, dialect="duckdb") for name, sql in _QUERIES.items()}
    return {name: tree for name, tree in read.items() if isinstance(tree, exp.Query)}


def filled(tree: exp.Query, values: Mapping[str, float]) -> exp.Query:
    """A statement with values in place of its marks."""

    def put(node: exp.Expr) -> exp.Expr:
        if isinstance(node, exp.Placeholder) and node.name in values:
            value = values[node.name]
            made = exp.Literal.number(repr(abs(value)) if isinstance(value, float) else abs(value))
            return exp.Neg(this=made) if value < 0 else made
        return node

    made = tree.copy().transform(put)
    assert isinstance(made, exp.Query)
    return made


def standing(moment: Moment) -> dict[str, exp.Query]:
    """The tables that lead to STANDING, one row a person, in the order in which each needs the ones before."""
    now, window = moment.now, moment.cadence.window * DAY
    values = {
        "now": now,
        "settled": now - moment.cadence.settled,
        "edge": now - window,
        "half": now - window // 2,
        "most": MOST,
        "few_blind": FEW_BLIND,
        "few_ignored": FEW_IGNORED,
        "few_machine": FEW_MACHINE,
        "few_engaged": FEW_ENGAGED,
        "strong": float(moment.limits.strong),
        "steady": float(moment.limits.steady),
    }
    return {name: filled(tree, values) for name, tree in _trees().items()}
