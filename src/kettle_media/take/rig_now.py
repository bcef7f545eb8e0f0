"""rig.json: a take's rig as it was changed afterwards; the recorded one stays in take.json."""

import json

from kettle_core.errors import RigError, TakeError
from kettle_core.rig.rig import Rig
from kettle_media.durable import PATIENCE_S, replace_file
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo


def rig_now(folder: TakeFolder, info: TakeInfo) -> tuple[Rig, list[str]]:
    """A take's rig as it counts, and why a changed one that can't be read is left out."""
    recorded = info.rig_values
    try:
        changed = rig_from_dict(json.loads(folder.rig_path.read_text()))
    except FileNotFoundError:
        return recorded, []
    except (OSError, ValueError, RecursionError, RigError) as error:
        return recorded, [f"{folder.rig_path.name} is left out: {error}"]
    if {i.id for i in changed.inputs} != {i.id for i in recorded.inputs}:
        return recorded, [f"{folder.rig_path.name} is left out: it is of other inputs."]
    return changed, []


def write_rig_now(folder: TakeFolder, info: TakeInfo, rig: Rig) -> None:
    """Keep the rig of a take as it was changed. Raises TakeError if the disk won't have it."""
    try:
        if rig == info.rig_values:
            folder.rig_path.unlink(missing_ok=True)
        else:
            text = json.dumps(rig_to_dict(rig), indent=1)
            replace_file(folder.rig_path, text.encode(), PATIENCE_S)
    except OSError as error:
        raise TakeError(
            f"{folder.rig_path.name} of {folder.path.name} cannot be written: "
            f"{error.strerror}. Nothing was changed."
        ) from error
