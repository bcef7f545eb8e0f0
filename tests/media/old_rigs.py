"""Rigs as older versions wrote them."""


def as_version_5(data):
    """Plain data of a rig as version 5 had it; changes and returns it."""
    data["version"] = 5
    data["default_scene"] = data.pop("default_scene_id")
    for item in data["inputs"]:
        mode = item["mode"]
        seen = bool(mode["width"])
        unused = ("sample_rate_hz", "channels") if seen else ("width", "height", "fps")
        for name in (*unused,):
            del mode[name]
        _with_lists(item["looks"])
        del item["tone" if seen else "looks"]
        for name, kind in (("still", "picture"), ("card", "text")):
            if item["kind"] != kind:
                del item[name]
    for row in (r for scene in data["scenes"] for r in scene["layers"] + scene["sounds"]):
        row["input"] = row.pop("input_id")
        _with_lists(row)
    for spot in data["spots"]:
        _with_lists(spot)
    for send in (s for stem in data["stems"] for s in stem["sends"]):
        send["input"] = send.pop("input_id")
    return data


def _with_lists(row):
    for name in ("box", "crop"):
        if row.get(name):
            row[name] = list(row[name].values())


def as_version_4(data):
    """Plain data of a rig as version 4 had it; changes and returns it."""
    as_version_5(data)["version"] = 4
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
