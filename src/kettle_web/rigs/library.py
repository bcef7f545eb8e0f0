"""The pictures of a rig's own library."""

from pathlib import Path

from django.conf import settings

from kettle_media.rig.stills import keep_picture, picture_to_png, still_name
from kettle_web.models import Rig, Still


def keep_still(*, rig: Rig, data: bytes, name: str) -> Still:
    """Put a picture into a rig's library. Raises PictureError."""
    png, width, height = picture_to_png(data, name)
    digest = still_name(png)
    label = Path(name).stem.replace("_", " ").strip()[:80] or "Picture"
    # The file is there before anybody can ask for it; the database is not held meanwhile.
    keep_picture(_library(), digest, png)
    still, _ = Still.objects.get_or_create(
        rig=rig, digest=digest, defaults={"name": label, "width": width, "height": height}
    )
    return still


def _library() -> Path:
    return Path(settings.DATA) / "pictures"
