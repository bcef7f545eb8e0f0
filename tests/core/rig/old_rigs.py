"""Rigs as older versions wrote them."""


def as_version_4(data):
    """Plain data of a rig as version 4 had it; changes and returns it."""
    data["version"] = 4
    data["sound_tracks"] = data.pop("stems")
    return data


def as_version_3(data):
    """Plain data of a rig without what version 4 brought; changes and returns it."""
    as_version_4(data)["version"] = 3
    del data["sound_tracks"], data["ducking"]
    for item in data["inputs"]:
        if tone := item.get("tone"):
            item["tone"] = {
                "gain_db": tone["gain_db"],
                "mono": tone["downmix"] != "stereo",
                "delay_ms": tone["delay_ms"],
            }
    return data


def as_version_2(data):
    """Plain data of a rig without what version 3 brought; changes and returns it."""
    as_version_3(data)["version"] = 2
    for name in ("spots", "change_over", "default_scene"):
        del data[name]
    for scene in data["scenes"]:
        for name in ("key", "layout", "change_over"):
            del scene[name]
        for layer in scene["layers"]:
            round_one = layer["mask"]["shape"] == "circle"
            layer["shape"] = "circle" if round_one else "rectangle"
            for name in set(layer) - {"input", "box", "crop", "shape", "shown"}:
                del layer[name]
    return data
