"""What is done to rigs and their libraries: inputs added, files taken in, rigs carried about."""

from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO

from django.conf import settings
from django.db import transaction

from kettle_core.errors import DeviceError, RigError
from kettle_core.rig.changes import Substitution, fit_to_devices, with_new_input
from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.rig import Card, Input, input_of_device, unused_id
from kettle_media.rig.file_driver import PREFIX
from kettle_media.rig.probe import SOUND_ENDINGS, VIDEO_ENDINGS, probe_file
from kettle_media.rig.rig_file import pictures_of, rig_from_file, rig_to_file
from kettle_media.rig.stills import keep_picture, picture_to_png, png_size, still_name
from kettle_media.rig_document import rig_to_dict
from kettle_web import services
from kettle_web.models import Rig, Still

SAMPLE_CARDS = {
    "title": ("Title card", Card("Planning a signature\nOdile Fernhollow", "source-serif", 120)),
    "step": ("Step card", Card("1  Fold, then crease", "figtree", 96, "#1d2b33", "#f7f4ec")),
    "end": ("End card", Card("Next time: sewing over tapes", "source-serif", 104)),
    "values": ("Values", Card("gutter 4.5 mm\ncreep  0.3 mm", "jetbrains-mono", 64, "#ffffff", "")),
}


def add_device(*, rig: Rig, device_id: str) -> Input:
    """Add a plugged-in device to a rig. Raises RigError if it has gone meanwhile."""
    found = next((d for d in services.devices() if d.id == device_id), None)
    if found is None:
        raise RigError(
            "This device is not plugged in any more, so nothing was added. Plug it in again.",
            "device",
        )
    return _add(rig, input_of_device(found, found.id))


def _add(rig: Rig, item: Input) -> Input:
    values = with_new_input(rig.values, replace(item, id=unused_id(item.id, ())))
    services.change_rig(rig=rig, values=values, words=f"{item.name} added")
    return values.inputs[-1]


@transaction.atomic
def keep_still(*, rig: Rig, data: bytes, name: str) -> Still:
    """Put a picture into a rig's library. Raises PictureError."""
    png, width, height = picture_to_png(data, name)
    digest = still_name(png)
    label = Path(name).stem.replace("_", " ").strip()[:80] or "Picture"
    still, _ = Still.objects.get_or_create(
        rig=rig, digest=digest, defaults={"name": label, "width": width, "height": height}
    )
    keep_picture(_library(), digest, png)
    return still


def _library() -> Path:
    return Path(settings.DATA) / "pictures"


def add_still(*, rig: Rig, still: Still) -> Input:
    """Add a picture of the library to the rig."""
    mode = Mode(still.width, still.height)
    item = Input(still.name, still.name, "picture", "", mode, recorded=False, still=still.digest)
    return _add(rig, item)


def add_card(*, rig: Rig, sample: str) -> Input:
    """Add a text card, beginning with a sample. Raises RigError."""
    if sample not in SAMPLE_CARDS:
        raise RigError("There is no such sample card. Choose one of the list.", "sample")
    name, card = SAMPLE_CARDS[sample]
    frame = rig.values.format.frame
    mode = Mode(frame.width, frame.height)
    return _add(rig, Input(name, name, "text", "", mode, recorded=False, card=card))


def add_material(*, rig: Rig, file: BinaryIO, name: str) -> list[Input]:
    """Take a video or sound file in and add what is in it as inputs. Raises RigError."""
    suffix = Path(name).suffix.lower()
    endings = VIDEO_ENDINGS + SOUND_ENDINGS
    if suffix not in endings:
        raise RigError(
            f"“{name[:60]}” is neither a video nor a sound file that can be played, so nothing was "
            f"added. Its name should end in one of {' '.join(endings)}.",
            "file",
        )
    folder = Path(settings.DATA) / "material"
    folder.mkdir(parents=True, exist_ok=True)
    taken = [p.stem for p in folder.iterdir()]
    path = folder / (unused_id(Path(name).stem, taken) + suffix)
    part = path.with_name(f".{path.name}.part{suffix}")
    try:
        with part.open("wb") as out:
            while chunk := file.read(1 << 20):
                out.write(chunk)
        probe_file(part)
        part.rename(path)
    except DeviceError as error:
        raise RigError(
            f"“{name[:60]}” cannot be played, so nothing was added. It may be damaged.", "file"
        ) from error
    finally:
        part.unlink(missing_ok=True)
    found = [d for d in services.devices() if d.id.startswith(PREFIX + path.name)]
    if not found:
        raise RigError(f"“{name[:60]}” was kept, but is not offered yet. Reload the page.", "file")
    return [add_device(rig=rig, device_id=d.id) for d in found]


def export_rig(*, rig: Rig) -> bytes:
    """The rig as one file, the pictures it uses in it."""
    values = rig.values
    folder = _library()
    names = pictures_of(values)
    pictures = {
        n: (folder / f"{n}.png").read_bytes() for n in names if (folder / f"{n}.png").exists()
    }
    return rig_to_file(values, pictures)


def import_rig(
    *, data: bytes, plugged_in: list[DeviceInfo] | None = None
) -> tuple[Rig, list[Substitution]]:
    """A new rig from a file, fitted to what is plugged in here.

    Raises
    ------
    RigError
        If the file is no rig file or does not hold together; nothing is kept then.
    """
    values, pictures = rig_from_file(data)
    told: list[Substitution] = []
    if plugged_in is not None:
        values, told = fit_to_devices(values, plugged_in)
    with transaction.atomic():
        rig = services.keep_rig(document=rig_to_dict(values))
        titles = {i.still: i.name for i in values.inputs if i.still}
        for digest in pictures_of(values):
            keep_picture(_library(), digest, pictures[digest])
            width, height = png_size(pictures[digest])
            Still.objects.get_or_create(
                rig=rig,
                digest=digest,
                defaults={"name": titles.get(digest, "Mask"), "width": width, "height": height},
            )
    return rig, told


def duplicate_rig(*, rig: Rig) -> Rig:
    """A copy of a rig with its library."""
    document: dict[str, Any] = {**rig.document, "name": f"{rig.name[:73]} (copy)"}
    with transaction.atomic():
        copy = services.keep_rig(document=document)
        for still in rig.stills.all():
            still.pk, still.rig = None, copy
            still.save()
    return copy
