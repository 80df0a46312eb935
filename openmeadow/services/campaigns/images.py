"""Images for messages: up to 2 MB, kept in the data folder, served by the application under their hash."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path

from PIL import Image, UnidentifiedImageError

from openmeadow.core.errors import Missing, Refused
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import content, records

MOST_BYTES, MOST_PIXELS = 2 * 1024 * 1024, 40_000_000
KINDS = {"PNG": ("png", "image/png"), "JPEG": ("jpg", "image/jpeg"), "GIF": ("gif", "image/gif")}
FOLDER = "images"


def take(workspace: Workspace, name: str, data: bytes, who: str) -> models.Image:
    """Keep an image; the same file again is the same image."""
    if len(data) > MOST_BYTES:
        raise Refused(f"{name} is larger than 2 MB. 1,200 pixels wide is enough.")
    try:
        with Image.open(io.BytesIO(data)) as image:
            form, (width, height) = image.format or "", image.size
            if form in KINDS and width * height <= MOST_PIXELS:
                image.verify()
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as e:
        raise Refused(f"{name} is not a supported image. Use PNG, JPEG or GIF.") from e
    if form not in KINDS:
        raise Refused(f"{name} is {form or 'of an unknown kind'}; mail clients show PNG, JPEG and GIF.")
    if width * height > MOST_PIXELS:
        raise Refused(f"{name} has {width} × {height} pixels, which is too large. 1,200 wide is enough.")
    digest = hashlib.sha256(data).hexdigest()[:32]
    ending, kind = KINDS[form]
    folder = workspace.folder / FOLDER
    folder.mkdir(exist_ok=True)
    path = folder / f"{digest}.{ending}"
    if not path.exists():
        part = path.with_suffix(".part")
        part.write_bytes(data)
        part.rename(path)
    with workspace.store.atomic() as db:
        content.save_image(db, digest, name[:200], kind, (len(data), width, height), who, workspace.now())
        settings.log(db, workspace.now(), who, "uploaded image", name[:200])
        kept = content.image(db, digest)
    assert kept is not None
    return shown(workspace, kept)


def shown(workspace: Workspace, row: records.Image) -> models.Image:
    """A picture with its address; sizes in octets and pixels."""
    ending = next(e for e, kind in KINDS.values() if kind == row.kind)
    base = str(workspace.setting("public_url")).rstrip("/")
    return models.Image(
        id=row.id, url=f"{base}/f/{row.hash}.{ending}", name=row.name, width=row.width, height=row.height, bytes=row.bytes
    )


def every(workspace: Workspace) -> list[models.Image]:
    """All images as pages show them."""
    return [shown(workspace, r) for r in content.images(workspace.store.read())]


def file_of(workspace: Workspace, name: str) -> tuple[Path, str]:
    """The file of a image by its public name, and its kind."""
    row = content.image(workspace.store.read(), name.partition(".")[0])
    path = workspace.folder / FOLDER / Path(name).name
    if row is None or not path.is_file():
        raise Missing("This image does not exist.")
    return path, str(row.kind)
