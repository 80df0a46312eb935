"""Holds rules as SQL against Open Meadow's own answers on Spark, in local mode. Run by ``make spark``, which installs
pyspark into an environment of its own; Java must be there (Debian: default-jre-headless).

``python -m scripts.spark prepare FOLDER`` writes a random workspace's columns, statements and answers; ``… compare
FOLDER`` runs the statements on Spark and compares, people for people."""

from __future__ import annotations

import json
import sys
from pathlib import Path

RULES = 60
EVERYBODY = "joined more than 0 days ago"


def prepare(folder: Path) -> None:
    """Columns, and statements with the people they must find."""
    from hypothesis import HealthCheck, Phase, given, seed, settings

    from openmeadow.core.errors import RuleMistake
    from openmeadow.services.warehouse import export, sql
    from tests.services.test_warehouse import CERTAIN, filled, left_ignored, replayed, rule

    folder.mkdir(parents=True)
    (folder / "data").mkdir()
    workspace = filled(folder / "data")
    export.run(workspace, folder / "out", "t")
    view, asked, texts = workspace.view(), [], list(CERTAIN)

    @seed(20260312)
    @settings(max_examples=RULES, phases=[Phase.generate], database=None, suppress_health_check=list(HealthCheck))
    @given(rule)
    def gather(text: str) -> None:
        texts.append(text)

    gather()
    for text in texts:
        try:
            mask = view.mask(workspace.checked_rule(text, view))
        except RuleMistake:
            continue
        people = view.columns.people.id[mask].tolist()
        asked.append({"rule": text, "sql": sql.segment(workspace, text, "spark").rstrip(";"), "people": people})
    s = view.scores
    standing = [
        [int(i), int(x), int(t), int(n), float(c), int(b)]
        for i, x, t, n, c, b, alive in zip(
            view.columns.people.id, s.x, s.t, s.n, s.chance, s.band, view.alive, strict=True
        )
        if alive
    ]
    for letter in range(14):
        due = {"rule": f"resend of letter {letter}", "people": sorted(left_ignored(workspace, letter))}
        asked.append(due | {"sql": sql.resend(workspace, f"Letter {letter}", "News", EVERYBODY, "spark").rstrip(";")})
    past = replayed(workspace, 400)
    replays = [
        [list(past.without(*cut_off).values()), sql.replay(workspace, *cut_off, 400, EVERYBODY, "spark").rstrip(";")]
        for cut_off in ((0, 0), (30, 1), (90, 2), (365, 3))
    ]
    question = sql.question(workspace, "standing", EVERYBODY, "spark").rstrip(";")
    told = {"rules": asked, "standing": standing, "question": question, "replays": replays}
    (folder / "asked.json").write_text(json.dumps(told))
    workspace.close()


def compare(folder: Path) -> None:
    """Ends with status 1 where Spark finds other people."""
    from pyspark.sql import SparkSession

    settings = {
        "spark.ui.enabled": "false",
        "spark.ui.showConsoleProgress": "false",
        "spark.sql.shuffle.partitions": "2",
        "spark.log.level": "ERROR",
    }
    builder = SparkSession.builder.master("local[2]").appName("rules")
    for name, value in settings.items():
        builder = builder.config(name, value)
    spark = builder.getOrCreate()
    for statement in (folder / "out/views.spark.sql").read_text().split(";\n"):
        if statement.strip():
            spark.sql(statement.replace("'./", f"'{folder.resolve()}/out/"))
    told = json.loads((folder / "asked.json").read_text())
    wrong = 0
    for case in told["rules"]:
        found = sorted(row["person"] for row in spark.sql(case["sql"]).collect())
        if found != sorted(case["people"]):
            wrong += 1
            print(f"other people: {case['rule']}: {len(found)} instead of {len(case['people'])}")
    bands = ("Strong", "Steady", "Fading", "Inactive", "Unproven", "Masked")
    found = sorted(
        [r.person, r.x, r.t, r.n, r.chance, bands.index(r.band)] for r in spark.sql(told["question"]).collect()
    )
    wrong += found != sorted(told["standing"])
    for totals, statement in told["replays"]:
        (row,) = (r for r in spark.sql(statement).collect() if r[0] == "with the cut-off")
        wrong += [float(v) for v in row[1:]] != totals
    count = f"{len(told['rules'])} rules and resends, {len(told['replays'])} replays, and where {len(found)} people stand"
    print(f"{count}, on Spark {spark.version}: {wrong} differ")
    spark.stop()
    sys.exit(bool(wrong))


if __name__ == "__main__":
    {"prepare": prepare, "compare": compare}[sys.argv[1]](Path(sys.argv[2]))
