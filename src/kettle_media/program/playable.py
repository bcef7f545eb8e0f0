"""What pages show of a take without composing: playable copies of tracks, a poster."""

from pathlib import Path

import av

from kettle_core.picture.picture import picture_from_i420, picture_to_jpeg, scale_picture
from kettle_core.scene.layout import Box, even
from kettle_media.durable import put_in_place, replace_file
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.take.align import GiveWay, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.packets import rewrap
from kettle_media.told import Told


def write_playable(folder: TakeFolder, info: TakeInfo, give_way: GiveWay = go_on) -> None:
    """Rewrap every track into a file that browsers and players open, without encoding again.

    Raises
    ------
    TakeError
        If a track can't be read or the disk won't have its copy; a copy is whole or not there.
    """
    for track in info.tracks:
        if track.damaged:
            continue
        target = folder.playable_path(track)
        target.parent.mkdir(exist_ok=True)
        give_way()
        part = target.with_name(f".{target.stem}.part{target.suffix}")
        try:
            rewrap(folder.track_path(track), part, faststart=track.is_picture)
            with Told(target, writing=True):
                put_in_place(part, target)
        finally:
            part.unlink(missing_ok=True)


def write_poster(program: Path, target: Path, width: int = 320) -> None:
    """A small JPEG of the program at a third of its length."""
    with av.open(str(program)) as container:
        stream = container.streams.video[0]
        container.seek(int((stream.duration or 0) // 3), stream=stream)
        frame = next(container.decode(stream))
    picture = picture_from_i420(frame_to_i420(frame))
    height = even(width * picture.height / picture.width)
    small = scale_picture(picture, Box(0, 0, picture.width, picture.height), width, height)
    with Told(target, writing=True):
        replace_file(target, picture_to_jpeg(small, 86))
