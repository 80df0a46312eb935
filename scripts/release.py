"""Prepares a release: the version in pyproject.toml, its heading in the changelog, the workspace that later versions must
open, the wheel, and the wheel's test. Run by ``make release VERSION=1.2.3``; what it wrote is then read and committed.

The changelog's part must stand under ``## Unreleased`` before.
"""

from __future__ import annotations

import lzma
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from pathlib import Path

from openmeadow.demo import build

ROOT = Path(__file__).resolve().parents[1]
RELEASED = ROOT / "tests" / "store" / "released"
PEOPLE = 60


def _replace(path: Path, pattern: str, text: str) -> None:
    found, times = re.subn(pattern, text, path.read_text(encoding="utf-8"), count=1, flags=re.M)
    if times != 1:
        sys.exit(f"{path.name}: {pattern} is not there.")
    path.write_text(found, encoding="utf-8")


def pack(folder: Path, kept: Path) -> None:
    """A workspace as SQL with the key of its consent record, compressed; the smallest form that shows what changed."""
    key = folder / "consent.key"
    db = sqlite3.connect(folder / "meadow.db")
    lines = [f"-- {key.read_bytes().hex() if key.exists() else ''}", *db.iterdump()]
    db.close()
    kept.write_bytes(lzma.compress("\n".join(lines).encode(), preset=9 | lzma.PRESET_EXTREME))


def unpack(kept: Path, folder: Path) -> None:
    """What ``pack`` kept, as a workspace's folder."""
    first, _, script = lzma.decompress(kept.read_bytes()).decode().partition("\n")
    if key := bytes.fromhex(first[3:]):
        (folder / "consent.key").write_bytes(key)
    db = sqlite3.connect(folder / "meadow.db")
    db.executescript(script)
    db.close()


def main(version: str) -> None:
    """All of it; ends with a sentence where something is not as it must be."""
    if not re.fullmatch(r"\d+\.\d+\.\d+", version):
        sys.exit("Write the version as three numbers: make release VERSION=1.2.3")
    before = subprocess.run(["git", "status", "--porcelain"], cwd=ROOT, check=True, capture_output=True, text=True).stdout
    if before.strip():
        sys.exit("There are changes that are not committed; a release is made of what is.")
    _replace(ROOT / "CHANGELOG.md", r"^## Unreleased$", f"## {version}")
    _replace(ROOT / "pyproject.toml", r'^version = ".*"$', f'version = "{version}"')
    with tempfile.TemporaryDirectory() as made:
        build.build(Path(made) / "data", PEOPLE)
        pack(Path(made) / "data", RELEASED / f"{version}.sql.xz")
    shutil.rmtree(ROOT / "build" / "wheel", ignore_errors=True)
    subprocess.run(["make", "wheel"], cwd=ROOT, check=True)
    tests = ["tests/cli/test_wheel.py", "tests/store/test_released.py", "tests/test_docs.py"]
    subprocess.run([sys.executable, "-m", "pytest", *tests], cwd=ROOT, check=True)
    print(f"Read what changed, then: git add -A && git commit -m 'Release {version}' && git tag v{version}")


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "")
