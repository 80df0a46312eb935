"""Changes the code in one place at a time and asks whether a test notices. Run by ``make mutation``; docs/figures.md keeps
what it found.

``python -m scripts.mutation core|services [SAMPLE [SEED]]``: a random sample of all changes that mutmut can make, in core
or in the services that decide, each run by the tests that reach it, in a process of its own, the quickest first: those
beside it, then, where these do not notice, those of the store and the services. Everything happens in build/mutation/.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from math import sqrt
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
PLACE = ROOT / "build" / "mutation"
COPIED = ("openmeadow", "tests", "scripts", "requirements", "deploy", "docs")
AT_ONCE, LONGEST = 2, 600  # changes asked at once; seconds after which a test that does not end has noticed
UNNOTICED = (0, 5)  # pytest's answers: all passed, or there was no test


@dataclass(frozen=True)
class Scope:
    """What is changed, and the tests that must notice."""

    changed: tuple[str, ...]
    tests: tuple[str, ...]
    others: tuple[str, ...]


# of the others those that ask core for much in little time
CLOSE = tuple(
    f"tests/{name}.py"
    for name in (
        *(
            "store/test_facts",
            "store/test_database",
            "store/test_event_hours",
            "services/test_acts",
            "services/test_bring_in",
        ),
        *("services/test_checking", "services/test_consent", "services/test_desk", "services/test_duplicates"),
        *("services/test_fields", "services/test_intake", "services/test_late_events", "services/test_learning"),
        *("services/test_segment_changes", "services/test_sequences", "services/test_warehouse", "web/test_places"),
    )
)
CAMPAIGNS = (
    "dispatcher",
    "guardrails",
    "resend",
    "results",
    "requeue",
    "smtp_delivery",
    "first_send",
    "recipients",
    "ab_test",
)
NEAR = (
    *(f"services/test_{m}" for m in ("sending", "under_way", "told_truly", "provider_limits", "at_the_relay")),
    *("services/test_sequences", "services/test_sequence_figures", "web/test_sequences"),
    *("services/test_nothing_lost", "services/test_late_and_stuck", "services/test_checking", "services/test_relay"),
)
SCOPES = {
    "core": Scope(("openmeadow/core/*",), ("tests/core",), CLOSE),
    "services": Scope(
        (*(f"openmeadow/services/campaigns/{m}.py" for m in CAMPAIGNS), "openmeadow/services/sequences/*"),
        tuple(f"tests/{m}.py" for m in NEAR),
        CLOSE,
    ),
}


def prepared(scope: Scope, tests: tuple[str, ...], folder: Path) -> None:
    """A copy of the project that the tool may change."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    for name in COPIED:
        shutil.copytree(ROOT / name, folder / name, ignore=shutil.ignore_patterns("__pycache__", "dist"))
    lines = [
        '[tool.mutmut]\nsource_paths = ["openmeadow"]',
        f"only_mutate = {json.dumps(scope.changed)}",
        f"pytest_add_cli_args_test_selection = {json.dumps(tests)}",
        f"also_copy = {json.dumps(COPIED[2:])}",
        'pytest_add_cli_args = ["-x"]',
    ]
    settings = (ROOT / "pyproject.toml").read_text(encoding="utf-8") + "\n" + "\n".join(lines) + "\n"
    (folder / "pyproject.toml").write_text(settings, encoding="utf-8")


def changes(folder: Path) -> list[str]:
    """Every change that can be made, by its name."""
    found: list[str] = []
    for meta in sorted((folder / "mutants").rglob("*.meta")):
        found += json.loads(meta.read_text(encoding="utf-8"))["exit_code_by_key"]
    return sorted(found)


def ready(scope: Scope, tests: tuple[str, ...], folder: Path) -> list[str]:
    """Every change that can be made, once it is known which tests reach what."""
    prepared(scope, tests, folder)
    tool = PLACE / "env" / "bin" / "mutmut"
    subprocess.run([tool, "run", "none of them"], cwd=folder, check=False, capture_output=True)
    every = changes(folder)
    if not every or not (folder / "mutants" / "mutmut-stats.json").exists():
        sys.exit(f"The tests do not pass in the copy: cd {folder} && {tool} run")
    return every


def not_noticed(folder: Path, names: list[str]) -> list[str]:
    """Of some changes those that no test notices. Not by the tool itself, which tries them in forks of a process that has
    run all tests: what those left behind (threads, processes) fails there, and counts as noticed."""
    stats = json.loads((folder / "mutants" / "mutmut-stats.json").read_text(encoding="utf-8"))
    reach, took = stats["tests_by_mangled_function_name"], stats["duration_by_test"]
    python = PLACE / "env" / "bin" / "python"

    def is_noticed(name: str) -> bool:
        tests = sorted(reach.get(name.rpartition("__mutmut_")[0], ()), key=lambda t: took.get(t, 0.0))
        if not tests:
            return False
        command = [python, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests]
        changed = {**os.environ, "MUTANT_UNDER_TEST": name}
        try:
            asked = subprocess.run(
                command, cwd=folder / "mutants", env=changed, check=False, capture_output=True, timeout=LONGEST
            )
        except subprocess.TimeoutExpired:
            return True
        return asked.returncode not in UNNOTICED

    with ThreadPoolExecutor(AT_ONCE) as pool:
        return [name for name, noticed in zip(names, pool.map(is_noticed, names), strict=True) if not noticed]


def main(which: str, sample: int, seed: int) -> None:
    """Prints the share that was noticed, with its standard error, and the modules where most was not."""
    scope, near, wide = SCOPES[which], PLACE / which, PLACE / f"{which}-whole"
    every = ready(scope, scope.tests, near)
    asked = random.Random(seed).sample(every, min(sample, len(every)))
    left = not_noticed(near, asked)
    print(f"{which}: {len(asked)} of {len(every):,} changes tried, {1 - len(left) / len(asked):.1%} noticed beside it")
    (PLACE / f"{which}-first.txt").write_text("\n".join(left), encoding="utf-8")
    ready(scope, scope.others, wide)
    survived = not_noticed(wide, left)
    share = 1 - len(survived) / len(asked)
    error = 1.96 * sqrt(share * (1 - share) / len(asked))
    print(f"{which}: {share:.1%} noticed with those of store and services (± {error:.1%})")
    for module, times in Counter(n.partition(".x")[0] for n in survived).most_common(15):
        print(f"  {times:3} {module}")
    with (PLACE / f"{which}-survivors.txt").open("w", encoding="utf-8") as out:
        for name in sorted(survived):
            command = [PLACE / "env" / "bin" / "mutmut", "show", name]
            shown = subprocess.run(command, cwd=wide, check=False, capture_output=True, text=True).stdout
            out.write(f"{name}\n{shown}\n")
    print(f"What was not noticed: {PLACE / f'{which}-survivors.txt'}")


if __name__ == "__main__":
    arguments = [*sys.argv[1:], "400", "1"]
    main(sys.argv[1], int(arguments[1]), int(arguments[2]) if len(sys.argv) > 3 else 1)
