"""What a name pattern's fields say of a take."""

from datetime import datetime


def name_fields(
    when: datetime, rig: str, number: int, tutorial: str = "", track: str = ""
) -> dict[str, str]:
    """Texts of the fields (`kettle_core.rig.file_names`); `when` in the user's own time."""
    return {
        "date": when.date().isoformat(),
        "time": f"{when:%H-%M}",
        "tutorial": tutorial,
        "rig": rig,
        "take": f"{number:02d}",
        "track": track,
    }
