"""Documents at the edge: what is refused, in which words, at which place."""

import unittest
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Annotated

from annotated_types import Interval, MaxLen, MultipleOf

from kettle_core.errors import RigError, TakeError
from kettle_core.fields import (
    Colour,
    FrameRate,
    Id,
    Name,
    OneOf,
    OptionalDigest,
    OptionalId,
    Percent,
    Text,
    within,
)
from kettle_media.documents import Document


@dataclass(frozen=True)
class Part:
    """A row of a thing."""

    id: Id
    at: OptionalId = ""


@dataclass(frozen=True)
class Thing:
    """One of everything."""

    name: Name
    parts: Annotated[tuple[Part, ...], MaxLen(2)] = ()
    rate: FrameRate = Fraction(30)
    kind: Annotated[str, OneOf(("round", "square"))] = "round"
    speed: Annotated[Fraction, OneOf(("1", "3/2"), "the speeds")] = Fraction(1)
    size: Annotated[int, Interval(ge=2, le=8), MultipleOf(2)] = 2
    share: Percent = 0
    gain: Annotated[float, within(-6, 6)] = 0.0
    on: bool = False
    colour: Colour = "#000000"
    still: OptionalDigest = ""
    words: Annotated[str, Text(5)] = "a"
    other: Part | None = field(default=None)


THING: Document[Thing] = Document(Thing, "The thing", RigError)


class Documents(unittest.TestCase):
    def test_what_is_written_is_read_back_and_what_is_left_out_is_as_at_first(self):
        thing = Thing("A", (Part("p"),), Fraction(30000, 1001), gain=3.5, other=Part("q", "p"))
        self.assertEqual(THING.read(THING.write(thing)), thing)
        self.assertEqual(THING.read_plain(THING.plain(thing)), thing)
        short = THING.plain(thing, defaults=False)
        self.assertEqual(
            short,
            {"name": "A", "parts": [{"id": "p"}], "rate": "30000/1001", "gain": 3.5,
             "other": {"id": "q", "at": "p"}},
        )  # fmt: skip
        self.assertEqual(THING.read_plain(short), thing)
        self.assertEqual(THING.read_plain({"name": " room around  "}).name, "room around")
        self.assertEqual(THING.read_plain({"name": "A", "gain": 3}).gain, 3.0)

    def test_each_fault_is_told_at_its_place(self):
        good = {"name": "A"}
        for values, place, sentence in (
            ([], "", "The thing should be an object, got []"),
            ({}, "name", "name is missing."),
            ({"name": "x" * 81}, "name", "a text of 1 to 80 characters"),
            ({**good, "colour": "red"}, "colour", "a colour such as #1d2b33, got 'red'"),
            ({**good, "more": 1}, "more", "more is not known."),
            ({**good, "parts": {}}, "parts", "should be a list"),
            ({**good, "parts": [{"id": "a"}] * 3}, "parts", "a list of at most 2"),
            ({**good, "parts": [{"id": "a"}, {"id": "A"}]}, "parts[1].id", "a-z, 0-9 and -"),
            ({**good, "parts": [7]}, "parts[0]", "should be an object, got 7"),
            ({**good, "other": {"id": "a", "at": "-"}}, "other.at", "empty, or a-z"),
            ({**good, "rate": 30}, "rate", "a frame rate from 1 to 240"),
            ({**good, "rate": "1/0"}, "rate", "a frame rate"),
            ({**good, "rate": "1e99999999"}, "rate", "a frame rate"),
            ({**good, "rate": "241"}, "rate", "a frame rate"),
            ({**good, "kind": "flat"}, "kind", "one of round, square, got 'flat'"),
            ({**good, "speed": "2"}, "speed", "one of the speeds 1, 3/2"),
            ({**good, "size": 10}, "size", "at most 8, got 10"),
            ({**good, "size": 0}, "size", "at least 2, got 0"),
            ({**good, "size": 3}, "size", "a multiple of 2, got 3"),
            ({**good, "size": 2.5}, "size", "a whole number, got 2.5"),
            ({**good, "size": True}, "size", "a whole number, got True"),
            ({**good, "share": 101}, "share", "at most 100"),
            ({**good, "gain": "3"}, "gain", "a number, got '3'"),
            ({**good, "gain": float("nan")}, "gain", "should be a number"),
            ({**good, "on": 1}, "on", "true or false, got 1"),
            ({**good, "still": "a" * 63}, "still", "64 digits"),
            ({**good, "words": "   "}, "words", "a text of 1 to 5 characters"),
            ({**good, "name": object()}, "", "The thing is no plain data"),
        ):
            with self.subTest(values=values), self.assertRaises(RigError) as caught:
                THING.read_plain(values)
            self.assertEqual(caught.exception.field, place)
            self.assertIn(sentence, str(caught.exception))

    def test_damaged_text_is_refused_by_the_documents_own_error(self):
        with self.assertRaisesRegex(RigError, "The thing is no JSON"):
            THING.read('{"name": ')
        with self.assertRaisesRegex(TakeError, "It should be an object"):
            Document(Thing).read("3")

    def test_the_schema_says_what_is_read(self):
        schema = THING.schema()
        self.assertEqual(schema["required"], ["name"])
        self.assertFalse(schema["additionalProperties"])
        self.assertEqual(schema["properties"]["kind"]["enum"], ["round", "square"])
        self.assertEqual(schema["properties"]["size"]["multipleOf"], 2)
        self.assertNotIn("title", schema["properties"]["size"])
