"""A rig as one JSON file, its pictures in it; read with distrust (docs/rig-format.md)."""

import base64
import binascii
import io
import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PIL import Image

from kettle_core.errors import RigError
from kettle_core.fields import DIGEST_PATTERN
from kettle_core.rig.rig import Rig
from kettle_media.rig.stills import MAX_PIXELS, MAX_SIDE_PX, mask_names, still_name
from kettle_media.rig_document import rig_from_dict, rig_schema, rig_to_dict

FORMAT_NAME = "vast-kettle-rig"
FILE_VERSION = 1
MAX_FILE_BYTES = 80_000_000
MAX_PICTURES = 64
NOT_A_RIG = (
    "This is not a rig file of Vast Kettle, so nothing was imported. "
    "Choose one that was exported here."
)


def read_rig_file(path: Path) -> bytes:
    """A rig file's bytes. Raises RigError."""
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            raise RigError(f"{path} is too large for a rig file, so nothing was imported.", "file")
        return path.read_bytes()
    except OSError as error:
        raise RigError(f"The rig file {path} cannot be read: {error.strerror}.", "file") from error


def rig_to_file(rig: Rig, pictures: Mapping[str, bytes]) -> bytes:
    """Write a rig with the PNG pictures it uses, by their names."""
    used = pictures_of(rig)
    data = {
        "format": FORMAT_NAME,
        "version": FILE_VERSION,
        "rig": rig_to_dict(rig),
        "pictures": {
            name: base64.b64encode(pictures[name]).decode()
            for name in sorted(used & pictures.keys())
        },
    }
    return json.dumps(data, indent=1, ensure_ascii=False).encode()


def rig_from_file(data: bytes) -> tuple[Rig, dict[str, bytes]]:
    """Read a rig and its pictures.

    Raises
    ------
    RigError
        If the file is too large, damaged, no rig, or one that could do harm.
    """
    if len(data) > MAX_FILE_BYTES:
        raise RigError(
            f"The file has {len(data) / 1e6:.0f} MB and a rig file at most "
            f"{MAX_FILE_BYTES / 1e6:.0f} MB, so nothing was imported.",
            "file",
        )
    try:
        found = json.loads(data.decode("utf-8"), parse_constant=_refuse, parse_float=_number)
    except (ValueError, RecursionError) as error:
        raise RigError(NOT_A_RIG, "file") from error
    if not isinstance(found, dict) or found.get("format") != FORMAT_NAME:
        raise RigError(NOT_A_RIG, "file")
    if found.get("version") != FILE_VERSION:
        raise RigError(
            f"This rig file is of version {found.get('version')!r:.20}; "
            f"version {FILE_VERSION} can be read. Export it again from a newer Vast Kettle.",
            "version",
        )
    rig = rig_from_dict(found.get("rig"))
    pictures = _read_pictures(found.get("pictures", {}))
    for item in rig.inputs:
        if item.still and item.still not in pictures:
            raise RigError(f"The picture of “{item.name}” is missing from the file.", "pictures")
    if not mask_names(rig.scenes) <= pictures.keys():
        raise RigError("The picture of a mask is missing from the file.", "pictures")
    return rig, pictures


def rig_file_schema() -> dict[str, Any]:
    """The JSON Schema of a rig file (published as schemas/rig.schema.json)."""
    rig = rig_schema()
    parts = rig.pop("$defs")
    pictures = {
        "description": "PNG files in base64, by the SHA-256 of their bytes",
        "type": "object",
        "maxProperties": MAX_PICTURES,
        "propertyNames": {"pattern": f"^{DIGEST_PATTERN}$"},
        "additionalProperties": {"type": "string", "contentEncoding": "base64"},
    }
    properties = {
        "format": {"const": FORMAT_NAME},
        "version": {"const": FILE_VERSION},
        "rig": {"$ref": "#/$defs/Rig"},
        "pictures": pictures,
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Vast Kettle rig",
        "description": "A rig as one file, see docs/rig-format.md.",
        "type": "object",
        "required": list(properties),
        "additionalProperties": False,
        "properties": properties,
        "$defs": {**parts, "Rig": rig},
    }


def pictures_of(rig: Rig) -> set[str]:
    """Names of the pictures in its library that a rig uses."""
    return {i.still for i in rig.inputs if i.still} | mask_names(rig.scenes)


def _refuse(constant: str) -> Any:
    raise ValueError(f"{constant} is no number in JSON")


def _number(text: str) -> float:
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise ValueError("a number is too large")
    return value


def _read_pictures(found: Any) -> dict[str, bytes]:
    if not isinstance(found, dict) or len(found) > MAX_PICTURES:
        raise RigError(f"“pictures” should be an object of at most {MAX_PICTURES}.", "pictures")
    return {name: _read_picture(name, value) for name, value in found.items()}


def _read_picture(name: str, value: Any) -> bytes:
    if not re.fullmatch(DIGEST_PATTERN, name) or not isinstance(value, str):
        raise RigError(f"“{name:.40}” is no name of a picture in a rig file.", "pictures")
    try:
        data = base64.b64decode(value, validate=True)
        with Image.open(io.BytesIO(data), formats=["PNG"]) as image:
            width, height = image.size
            if max(width, height) > MAX_SIDE_PX or width * height > MAX_PIXELS:
                raise RigError("A picture of the rig file is too large.", "pictures")
            image.load()
    except (
        binascii.Error,
        OSError,
        SyntaxError,
        ValueError,
        Image.DecompressionBombError,
    ) as error:
        if isinstance(error, RigError):
            raise
        raise RigError(
            f"The picture {name[:12]}… of the rig file is damaged.", "pictures"
        ) from error
    if still_name(data) != name:
        raise RigError(f"The picture {name[:12]}… of the rig file was changed.", "pictures")
    return data
