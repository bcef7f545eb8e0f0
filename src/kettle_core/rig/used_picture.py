"""A device's picture as its input uses it."""

from kettle_core.picture.picture import Picture, crop_picture, turn_picture
from kettle_core.rig.rig import Looks
from kettle_core.scene.layout import Box


def as_used(picture: Picture, looks: Looks) -> Picture:
    """A device's picture as its input uses it: cropped, turned, mirrored.

    Parameters
    ----------
    picture : Picture, as the device gave it
    looks : Looks; a crop that does not lie on the picture is left out

    Returns
    -------
    Picture
        Its planes may be views of the source.
    """
    if looks.crop and Box(0, 0, picture.width, picture.height).holds(looks.crop):
        picture = crop_picture(picture, looks.crop)
    return turn_picture(picture, looks.turn, looks.mirrored)
