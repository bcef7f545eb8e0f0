"""Keys of the Record page: what each does, which key it has, what would be wrong with another."""

from collections.abc import Mapping
from dataclasses import dataclass

from kettle_web.models import Key


@dataclass(frozen=True)
class Action:
    """Something that is done by a key, or said by `./kettle say`.

    One that is `before` something waits for that.
    """

    id: str
    words: str
    default: str
    said: str
    before: str = ""


ACTIONS = (
    Action("record", "Record", "r", "start"),
    Action("stop", "Stop and keep the take", "s", "stop"),
    Action("pause", "Pause, and go on", "p", "pause, go-on"),
    Action("step", "Next step of the running order", "n", "step"),
    Action("good", "Mark: good", "g", "mark good"),
    Action("again", "Mark: again", "a", "mark again"),
    Action("mark", "Mark with words", "m", "mark TEXT"),
    Action("close-up", "Close-up, twice as large, and back", "c", "close-up"),
    Action("closer", "Close-up, three times as large, and back", "t", "close-up 3"),
    Action(
        "hide", "Hide or show a picture", "h", "hide NAME, show NAME", before="the picture's digit"
    ),
    Action(
        "mute", "Mute or hear a sound", "u", "mute NAME, unmute NAME", before="the sound's digit"
    ),
    Action("over", "Start over", "o", "start-over --yes"),
    Action("give-up", "Give up", "v", "give-up --yes"),
)
# Scenes are called by their digits.
DIGITS = "0123456789"
ALLOWED = "abcdefghijklmnopqrstuvwxyz,.-+#;"
FUNCTION_KEYS = ("f2", "f4", "f8", "f9", "f10")
# What browsers do themselves, or a page needs.
TAKEN = {
    "/": "searches the page in some browsers",
    "'": "searches the page in some browsers",
    "?": "lists the keys",
    " ": "presses the button that has the focus",
    "space": "presses the button that has the focus",
    "enter": "presses the button that has the focus",
    "tab": "goes to the next button",
    "escape": "closes what is open",
    "backspace": "goes back in some browsers",
    "f1": "opens the browser's help",
    "f3": "searches the page",
    "f5": "loads the page again, and what is typed would be lost",
    "f6": "goes to the address",
    "f7": "has some browsers ask about a text cursor",
    "f11": "fills the screen",
    "f12": "opens the developer's tools",
}


def keys() -> dict[str, str]:
    """The key of every action."""
    changed = dict(Key.objects.values_list("action", "key"))
    return {a.id: changed.get(a.id, a.default) for a in ACTIONS}


def wrong_keys(wanted: Mapping[str, str]) -> dict[str, str]:
    """By action what is wrong with the key that it would have; nothing where all is well."""
    words = {a.id: a.words for a in ACTIONS}
    found = {}
    for action, key in wanted.items():
        sentence = _wrong(key)
        others = [words[a] for a, k in wanted.items() if k == key and a != action]
        if not sentence and others:
            sentence = f"{key.upper()} is also the key of “{others[0]}”. Choose another one."
        if sentence:
            found[action] = sentence
    return found


def _wrong(key: str) -> str:
    if not key:
        return "An action needs a key. Type one."
    if key in TAKEN:
        return f"The browser needs this key: it {TAKEN[key]}. Choose another one."
    if key in DIGITS:
        return "Digits call scenes. Choose a letter."
    if key in FUNCTION_KEYS or (len(key) == 1 and key in ALLOWED):
        return ""
    return "A key is a letter a to z, one of , . - + # ; or F2, F4, F8 to F10. Type one of these."


def set_keys(wanted: Mapping[str, str]) -> dict[str, str]:
    """Keep keys; where one is wrong nothing is kept and it is said what is."""
    made = {**keys(), **{a: k.strip().lower() for a, k in wanted.items() if a in keys()}}
    found = wrong_keys(made)
    if not found:
        for action in ACTIONS:
            if made[action.id] == action.default:
                Key.objects.filter(pk=action.id).delete()
            else:
                Key.objects.update_or_create(pk=action.id, defaults={"key": made[action.id]})
    return found
