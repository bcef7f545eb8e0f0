"""Names of files made from a pattern: safe on every file system and web service, never twice."""

import re
import unicodedata
from collections.abc import Callable, Mapping

from kettle_core.errors import RigError

FIELDS = ("date", "time", "tutorial", "rig", "take", "track")
MOST_CHARACTERS = 100
# Kept for a number that tells two names apart, and for an ending.
ROOM = 12
# What is not a field may be so long.
MOST_PLAIN = 60
# Names that some file system keeps for devices.
RESERVED = {"con", "prn", "aux", "nul"} | {f"{n}{k}" for n in ("com", "lpt") for k in range(1, 10)}
_PARTS = re.compile(r"\{([^{}]*)\}|([^{}]+)")
_PLAIN = re.compile(r"[A-Za-z0-9._ -]*")


def check_pattern(pattern: str) -> None:
    """Refuse a pattern that could not name files.

    Raises
    ------
    RigError
        With what is wrong in it.
    """
    field = "format.files.pattern"
    fields = ", ".join(f"{{{name}}}" for name in FIELDS)
    if (
        pattern.count("{") != pattern.count("}")
        or "".join(m[0] for m in _PARTS.finditer(pattern)) != pattern
    ):
        raise RigError("The name pattern has a brace without its other one.", field)
    plain = ""
    for name, text in _PARTS.findall(pattern):
        if not text and name not in FIELDS:
            raise RigError(
                f"The name pattern has no field {{{name:.20}}}. Fields: {fields}.", field
            )
        plain += text
    if not _PLAIN.fullmatch(plain) or ".." in plain:
        raise RigError(
            "The name pattern may have letters a-z, digits, spaces, “-”, “_”, single dots and "
            f"the fields {fields}.",
            field,
        )
    if len(plain) > MOST_PLAIN:
        raise RigError(
            f"Besides fields the name pattern has at most {MOST_PLAIN} characters.", field
        )
    if not any(name for name, _ in _PARTS.findall(pattern)):
        raise RigError(f"The name pattern needs at least one field: {fields}.", field)


def file_name(pattern: str, values: Mapping[str, str], taken: Callable[[str], bool]) -> str:
    """A name by a pattern, without an ending.

    Parameters
    ----------
    pattern : as `check_pattern` lets it through
    values : texts of fields, as people typed them; a field without one is left out
    taken : whether there is such a name already; then a number is added

    Returns
    -------
    str
        a-z, 0-9, "-", "_" and ".", with `ROOM` less than 100 characters at most.

    Examples
    --------
    >>> values = {"rig": "Würfel & Bänder", "date": "2026-11-26", "take": "02"}
    >>> file_name("{rig}-{date}-take-{take}-{track}", values, {"x"}.__contains__)
    'wurfel-bander-2026-11-26-take-02'
    """
    texts = {name: plain_text(text) for name, text in values.items()}
    for name, text in values.items():
        # What has no letter in a-z is named by what it is.
        texts[name] = texts[name] or (name if text else "")
    made = _filled(pattern, texts)
    while len(made) > MOST_CHARACTERS - ROOM:
        longest = max(texts, key=lambda name: len(texts[name]))
        texts[longest] = texts[longest][: len(texts[longest]) * 3 // 4]
        made = _filled(pattern, texts)
    number, found = 2, made
    while taken(found):
        found, number = f"{made}-{number}", number + 1
    return found


def _filled(pattern: str, texts: Mapping[str, str]) -> str:
    made = "".join(
        text.lower().replace(" ", "-") if text else texts.get(name, "")
        for name, text in _PARTS.findall(pattern)
    )
    # Where a field was left out two separators meet.
    made = re.sub(r"([-_.])[-_.]+", r"\1", made).strip("-_.") or "take"
    return f"{made}-file" if made.partition(".")[0] in RESERVED else made


def plain_text(text: str) -> str:
    """A text in a-z, 0-9 and single "-", without accents.

    >>> plain_text("Über den Bund: Øl, naïve café")
    'uber-den-bund-l-naive-cafe'
    """
    parted = unicodedata.normalize("NFKD", text.lower())
    letters = "".join(c for c in parted if not unicodedata.combining(c))
    return re.sub(r"[^a-z0-9]+", "-", letters).strip("-")
