"""Takes found by words: SQLite's full-text index, kept up by whoever changes a take."""

import re
from collections.abc import Iterable

from django.db import connection
from django.db.models import QuerySet
from django.db.models.expressions import RawSQL

from kettle_web.models import Take

MOST_WORDS = 100_000
MOST_TERMS = 12
_TERM = re.compile(r"\w+")


def index_take(take: Take, more: str = "") -> None:
    """Have a take found by its name, its tutorial's, its rig's, its tags and what is `more`."""
    words = " ".join([take.name, *take.tag_list, more])
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM kettle_takewords WHERE rowid = %s", [take.pk])
        cursor.execute(
            "INSERT INTO kettle_takewords (rowid, words, belongs) VALUES (%s, %s, %s)",
            [take.pk, words[:MOST_WORDS], _belongs(take)],
        )


def index_again(takes: Iterable[Take]) -> None:
    """Have takes found by what their tutorial and their rig are called by now."""
    rows = [(_belongs(take), take.pk) for take in takes]
    with connection.cursor() as cursor:
        cursor.executemany("UPDATE kettle_takewords SET belongs = %s WHERE rowid = %s", rows)


def _belongs(take: Take) -> str:
    return f"{take.tutorial.name} {take.rig.name if take.rig else ''}"


def forget_take(pk: int) -> None:
    """Have a take found no more."""
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM kettle_takewords WHERE rowid = %s", [pk])


def found_by(takes: QuerySet[Take], text: str) -> QuerySet[Take]:
    """Takes that have all words of a text, or words that begin so; all of them without any."""
    terms = _TERM.findall(text)[:MOST_TERMS]
    if not terms:
        # Signs alone are nothing that a take could have.
        return takes.none() if text.strip() else takes
    # Quoted: no word of a text is one of the index's own.
    query = " ".join(f'"{term}"*' for term in terms)
    words = "SELECT rowid FROM kettle_takewords WHERE kettle_takewords MATCH %s"
    return takes.filter(pk__in=RawSQL(words, [query]))  # noqa: S611  (what is asked is a parameter)
