"""Pictures for messages: up to 2 MB, kept in the data folder, served by the application under their hash."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path
from typing import Any

from PIL import Image, UnidentifiedImageError

from openmeadow.core.errors import Missing, Refused
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace, writing

MOST_BYTES, MOST_PIXELS = 2 * 1024 * 1024, 40_000_000
KINDS = {"PNG": ("png", "image/png"), "JPEG": ("jpg", "image/jpeg"), "GIF": ("gif", "image/gif")}
FOLDER = "pictures"


def take(desk: Desk, name: str, data: bytes, who: str) -> dict[str, Any]:
    """Keep a picture; the same file again is the same picture: {"id", "url", "name", "width", "height", "bytes"}."""
    if len(data) > MOST_BYTES:
        raise Refused(
            f"{name} has {len(data) / 1e6:.1f} MB; a picture may have 2. Make it smaller: 1,200 px is wide enough."
        )
    try:
        with Image.open(io.BytesIO(data)) as image:
            form, (width, height) = image.format or "", image.size
            if form in KINDS and width * height <= MOST_PIXELS:
                image.verify()
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as e:
        raise Refused(f"{name} is no picture that can be read; use PNG, JPEG or GIF.") from e
    if form not in KINDS:
        raise Refused(f"{name} is {form or 'of an unknown kind'}; mail readers show PNG, JPEG and GIF.")
    if width * height > MOST_PIXELS:
        raise Refused(f"{name} has {width} × {height} pixels; make it smaller, 1,200 wide is enough.")
    hash = hashlib.sha256(data).hexdigest()[:32]
    ending, kind = KINDS[form]
    folder = desk.folder / FOLDER
    folder.mkdir(exist_ok=True)
    path = folder / f"{hash}.{ending}"
    if not path.exists():
        part = path.with_suffix(".part")
        part.write_bytes(data)
        part.rename(path)
    with desk.store.atomic() as db:
        id = writing.keep_picture(db, hash, name[:200], kind, (len(data), width, height), who, desk.now())
        workspace.log(db, desk.now(), who, "brought in picture", name[:200])
    return shown(desk, writing.picture(desk.store.read(), hash)) | {"id": id}


def shown(desk: Desk, row: Any) -> dict[str, Any]:
    ending = next(e for e, kind in KINDS.values() if kind == row["kind"])
    base = str(desk.setting("public_url")).rstrip("/")
    return {"url": f"{base}/f/{row['hash']}.{ending}"} | {k: row[k] for k in ("id", "name", "width", "height", "bytes")}


def every(desk: Desk) -> list[dict[str, Any]]:
    return [shown(desk, r) for r in writing.pictures(desk.store.read())]


def file_of(desk: Desk, name: str) -> tuple[Path, str]:
    """The file of a picture by its public name, and its kind."""
    row = writing.picture(desk.store.read(), name.partition(".")[0])
    path = desk.folder / FOLDER / Path(name).name
    if row is None or not path.is_file():
        raise Missing("There is no such picture.")
    return path, str(row["kind"])
