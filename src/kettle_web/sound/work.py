"""What is made of a sound in the background."""

import json

from kettle_core.errors import SoundError
from kettle_core.rig.rig import Input
from kettle_media.durable import replace_file
from kettle_media.sound.compare_sound import compare_sound
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.models import Rig
from kettle_web.rigs.heard import heard_path


@job_kind("comparison")
def compare(doing: Doing) -> None:
    """What was heard last of an input, through its chain as it is now."""
    _, rig_id, input_id = doing.subject.split(":")
    rig = Rig.with_takes.filter(pk=rig_id).first()
    found_items = [i for i in rig.values.inputs if i.id == input_id] if rig else []
    if rig is None or not found_items:
        raise SoundError("This sound is not in the rig any more.")
    item: Input = found_items[0]
    path, raw = heard_path(rig, item, "json"), heard_path(rig, item, "raw")
    files = heard_path(rig, item, "before"), heard_path(rig, item, "after")
    figures = compare_sound(raw, item.tone, *files)
    doing.say("")
    found = json.loads(path.read_text())
    replace_file(path, json.dumps({**found, "compared": figures}).encode())
