"""The rig that a command names."""

import json
from pathlib import Path

from kettle_cli.paths import DATA
from kettle_core.errors import RigError
from kettle_core.rig.rig import Rig
from kettle_media.rig.rig_file import FORMAT_NAME, read_rig_file, rig_from_file
from kettle_media.rig.stills import keep_picture
from kettle_media.rig_document import rig_from_dict
from kettle_studio.demo import sized_demo_rig


def find_rig(name: str) -> Rig:
    """A rig by a JSON file's path, by its name in the database, or the built-in demo rig."""
    if name.endswith(".json"):
        return _rig_of_file(Path(name))
    kept = _kept_rigs()
    if name in kept:
        return rig_from_dict(kept[name])
    if name == "demo":
        return sized_demo_rig()
    known = ", ".join(sorted({"demo", *kept}))
    raise RigError(f"There is no rig “{name}”, so nothing was recorded. Known rigs: {known}.")


def _rig_of_file(path: Path) -> Rig:
    """A rig as it was exported, or as it stands in take.json; pictures go to the library."""
    data = read_rig_file(path)
    try:
        plain = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise RigError(f"The rig file {path} cannot be read: {error}.") from error
    if not isinstance(plain, dict) or plain.get("format") != FORMAT_NAME:
        return rig_from_dict(plain)
    rig, pictures = rig_from_file(data)
    for digest, png in pictures.items():
        keep_picture(DATA / "pictures", digest, png)
    return rig


def _kept_rigs() -> dict[str, dict[str, object]]:
    if not (DATA / "db.sqlite3").exists():
        return {}
    import django

    django.setup()
    from django.db import DatabaseError

    from kettle_web.models import Rig as KeptRig

    try:
        return dict(KeptRig.objects.values_list("slug", "document"))
    except DatabaseError:
        return {}
