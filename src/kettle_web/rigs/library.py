"""The pictures of a rig's own library."""

import time
from contextlib import suppress
from pathlib import Path

from django.conf import settings

from kettle_media.rig.stills import keep_picture, picture_to_png, still_name
from kettle_web.models import Rig, Still

# Who has just brought a picture has so long until a rig has it.
UNUSED_FOR_S = 3600


def keep_still(*, rig: Rig, data: bytes, name: str) -> Still:
    """Put a picture into a rig's library. Raises PictureError."""
    png, width, height = picture_to_png(data, name)
    digest = still_name(png)
    label = Path(name).stem.replace("_", " ").strip()[:80] or "Picture"
    # The file is there before anybody can ask for it; the database is not held meanwhile.
    keep_picture(library(), digest, png)
    still, _ = Still.objects.get_or_create(
        rig=rig, digest=digest, defaults={"name": label, "width": width, "height": height}
    )
    return still


def library() -> Path:
    """Where the pictures of all rigs lie."""
    return Path(settings.DATA) / "pictures"


def forget_pictures() -> None:
    """Delete pictures that no rig has any more, and none has had for a while."""
    before_s = time.time() - UNUSED_FOR_S
    had = set(Still.objects.values_list("digest", flat=True))
    for left in library().glob("*.gone"):
        # Who looked at it was ended then.
        left.replace(left.with_suffix(".png"))
    for path in library().glob("*.png"):
        # One may go, or be brought again, at this very moment.
        with suppress(FileNotFoundError):
            if path.stem in had or path.stat().st_mtime >= before_s:
                continue
            gone = path.replace(path.with_suffix(".gone"))
            if gone.stat().st_mtime >= before_s:
                gone.replace(path)
            else:
                gone.unlink()
