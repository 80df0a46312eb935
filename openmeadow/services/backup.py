"""One consistent copy of a workspace while everything runs, keys and files included; and its restore, verified."""

from __future__ import annotations

import fcntl
import hashlib
import io
import json
import sqlite3
import tarfile
import tempfile
from dataclasses import dataclass
from pathlib import Path

from pydantic import BaseModel

from openmeadow.core.errors import CannotOpen, Damaged, MeadowError, Refused
from openmeadow.core.imports.dates import moment, rfc3339
from openmeadow.services.archive import SECRETS
from openmeadow.services.campaigns import outgoing
from openmeadow.services.campaigns.images import FOLDER as IMAGES
from openmeadow.services.subscribers import consent
from openmeadow.services.workspace import Workspace
from openmeadow.store.connection import FILE

FORM = 1
MANIFEST = "backup.json"
_FILES = (*SECRETS, "machines.json", "clock")
_CHUNK = 1 << 20


@dataclass(frozen=True)
class BackedUp:
    """What a backup holds, or what was restored: ``as_of`` is the moment of the copy (UTC seconds), ``paused`` how many
    plans and sequences wait for an analyst."""

    as_of: int
    files: int
    size: int
    entries: int
    paused: int = 0


def _digest(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def _copied(source: sqlite3.Connection, to: Path) -> None:
    """The database as it is at one moment, by SQLite's own online copy."""
    target = sqlite3.connect(to)
    try:
        source.backup(target)
        target.execute("PRAGMA journal_mode = DELETE")
        found = target.execute("PRAGMA integrity_check(1)").fetchone()[0]
        if found != "ok":
            raise Damaged(f"The database is damaged, so no backup was made: {found}.")
    except sqlite3.DatabaseError as e:
        raise Damaged(f"The database is damaged, so no backup was made: {e}.") from e
    finally:
        target.close()


def back_up(workspace: Workspace, out: Path) -> BackedUp:
    """Write a backup as a tar file. The file appears only when it is whole."""
    if out.exists():
        raise Refused(f"{out} already exists. Choose another file.")
    as_of = workspace.now()
    fresh = out.with_name(f".{out.name}.new")
    try:
        with tempfile.TemporaryDirectory(dir=out.parent, prefix=".meadow-backup-") as work:
            copy = Path(work) / FILE
            _copied(workspace.store.read(), copy)
            files = {FILE: copy}
            files |= {name: workspace.folder / name for name in _FILES if (workspace.folder / name).exists()}
            images = sorted((workspace.folder / IMAGES).glob("*")) if (workspace.folder / IMAGES).is_dir() else []
            files |= {f"{IMAGES}/{p.name}": p for p in images if p.is_file()}
            about = {
                "form": FORM,
                "as_of": rfc3339(as_of),
                "files": {name: {"sha256": _digest(path), "bytes": path.stat().st_size} for name, path in files.items()},
            }
            with tarfile.open(fresh, "w") as tar:
                _add_text(tar, MANIFEST, json.dumps(about, indent=1))
                for name, path in files.items():
                    tar.add(path, arcname=name, recursive=False)
        fresh.chmod(0o600)
        fresh.rename(out)
    except OSError as e:
        raise CannotOpen(f"{out} cannot be opened for writing: {(e.strerror or 'unknown reason').lower()}.") from e
    finally:
        fresh.unlink(missing_ok=True)
    entries = consent.check_evidence(workspace).entries
    return BackedUp(as_of, len(files), out.stat().st_size, int(entries))


def _add_text(tar: tarfile.TarFile, name: str, text: str) -> None:
    info = tarfile.TarInfo(name)
    data = text.encode()
    info.size, info.mode = len(data), 0o600
    tar.addfile(info, io.BytesIO(data))


def restore(file: Path, folder: Path) -> BackedUp:
    """Put a backup into a data folder that is empty or not there yet. Database, chain of consent and keys are verified
    before anything stays; then everything outgoing is paused where anybody waits."""
    _refuse_a_folder_in_use(folder)
    try:
        with tarfile.open(file, "r:") as tar:
            about = _manifest(tar)
            folder.mkdir(parents=True, exist_ok=True)
            for name, told in about.files.items():
                _unpack(tar, name, told, folder)
    except (tarfile.TarError, EOFError) as e:
        _undo(folder)
        raise MeadowError(f"{file} is not a readable backup: {e}.") from e
    except OSError as e:
        _undo(folder)
        raise CannotOpen(
            f"{file} cannot be opened, or {folder} cannot be written: {(e.strerror or 'unknown').lower()}."
        ) from e
    except MeadowError:
        _undo(folder)
        raise
    try:
        return _verified(folder, about)
    except (MeadowError, sqlite3.DatabaseError) as e:
        _undo(folder)
        raise e if isinstance(e, MeadowError) else Damaged(f"The database in the backup is damaged: {e}.") from e


def _refuse_a_folder_in_use(folder: Path) -> None:
    lock = folder / "worker.lock"
    if lock.exists():
        with lock.open("w") as f:
            try:
                fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                raise Refused(
                    f"A worker is using the workspace at {folder}. Stop it and choose an empty folder."
                ) from None
    if folder.exists() and any(folder.iterdir()):
        raise Refused(f"{folder} is not empty. Choose an empty or new folder.")


class ManifestFile(BaseModel):
    """A file of a backup: its size in octets and its SHA-256."""

    bytes: int
    sha256: str


class Manifest(BaseModel):
    """What a backup says of itself; ``form`` is the version of its form, ``as_of`` RFC 3339."""

    form: int | str | None = None
    as_of: str = ""
    files: dict[str, ManifestFile] = {}


def _manifest(tar: tarfile.TarFile) -> Manifest:
    try:
        found = tar.extractfile(MANIFEST)
        about = Manifest.model_validate_json(found.read(_CHUNK) if found is not None else b"{}")
    except (KeyError, ValueError) as e:
        raise MeadowError("This is not a backup of a workspace: its file list is missing.") from e
    if about.form != FORM or FILE not in about.files:
        raise MeadowError(f"This backup has an unsupported version ({about.form}).")
    return about


def _unpack(tar: tarfile.TarFile, name: str, told: ManifestFile, folder: Path) -> None:
    if name != FILE and name not in _FILES and not (name.startswith(f"{IMAGES}/") and name.count("/") == 1):
        raise MeadowError(f"The backup contains a file that does not belong to a workspace: {name[:80]}.")
    try:
        source = tar.extractfile(name)
    except KeyError:
        source = None
    if source is None:
        raise MeadowError(f"The backup is incomplete: {name} is missing.")
    to = folder / name
    to.parent.mkdir(exist_ok=True)
    with to.open("wb") as f:
        while chunk := source.read(_CHUNK):
            f.write(chunk)
    to.chmod(0o600)
    if _digest(to) != told.sha256:
        raise Damaged(f"The backup is damaged: {name} has changed.")


def _verified(folder: Path, about: Manifest) -> BackedUp:
    workspace = Workspace(folder)
    try:
        if wrong := workspace.store.damage():
            raise Damaged(f"The database in the backup is damaged: {wrong}.")
        evidence = consent.check_evidence(workspace)
        if not evidence.verified:
            raise Damaged(
                f"Verification of the consent record in the backup failed at entry {evidence.broken_at}: {evidence.what}."
            )
        as_of = moment(about.as_of)
        with workspace.store.atomic() as db:
            waits = outgoing.pause_all(db, workspace.now(), as_of, "restored from a backup")
        size = sum(told.bytes for told in about.files.values())
        return BackedUp(as_of, len(about.files), size, int(evidence.entries), waits)
    finally:
        workspace.close()


def _undo(folder: Path) -> None:
    """Nothing of a restore that failed stays."""
    import shutil

    for left in folder.glob("*"):
        if left.is_dir():
            shutil.rmtree(left, ignore_errors=True)
        else:
            left.unlink(missing_ok=True)
