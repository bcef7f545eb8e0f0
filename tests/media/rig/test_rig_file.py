import base64
import io
import json
import unittest
from pathlib import Path
from unittest import mock

import jsonschema
from PIL import Image

import kettle_media
from kettle_core.errors import PictureError, RigError
from kettle_core.rig.changes import with_new_input
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Card, Input
from kettle_media.rig.rig_file import MAX_FILE_BYTES, rig_file_schema, rig_from_file, rig_to_file
from kettle_media.rig.stills import draw_card, picture_to_png, rgba_to_picture, still_name
from kettle_media.rig.svg import svg_to_png
from kettle_studio.demo import demo_rig


def made(kind, size=(64, 48), colour=(169, 79, 39, 128), **more):
    out = io.BytesIO()
    mode = "RGB" if kind == "JPEG" else "RGBA"
    Image.new(mode, size, colour[: len(mode)]).save(out, kind, **more)
    return out.getvalue()


SVG = b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 30"><path d="M0 0h9v9z"/>%s</svg>'


class RigFile(unittest.TestCase):
    def setUp(self):
        self.png, width, height = picture_to_png(made("PNG"), "logo.png")
        self.name = still_name(self.png)
        logo = Input("logo", "Mark", "picture", "", Mode(width, height), False, still=self.name)
        self.rig = with_new_input(demo_rig(), logo)
        self.data = rig_to_file(self.rig, {self.name: self.png, "b" * 64: b"unused"})

    def test_out_and_in_again_is_equal_and_the_schema_holds(self):
        rig, pictures = rig_from_file(self.data)
        self.assertEqual((rig, pictures), (self.rig, {self.name: self.png}))
        jsonschema.validate(json.loads(self.data), rig_file_schema())

    def test_the_published_schema_is_the_one_that_is_read_by(self):
        published = Path(kettle_media.__file__).parent / "schemas" / "rig.schema.json"
        self.assertEqual(json.loads(published.read_text()), rig_file_schema())

    def changed(self, **values):
        return json.dumps({**json.loads(self.data), **values}).encode()

    def test_damaged_foreign_and_hostile_files_are_refused_with_a_sentence(self):
        plain = json.loads(self.data)
        deep = b'{"format": "vast-kettle-rig", "rig": ' + b"[" * 100_000 + b"]" * 100_000 + b"}"
        huge = self.data.replace(b'"sound_kbps": 192', b'"sound_kbps": ' + b"9" * 5000)
        infinite = self.data.replace(b'"gain_db": 6.0', b'"gain_db": 1e999')
        slow = self.data.replace(b'"fps": "30"', b'"fps": "1e99999999"', 1)
        path = {**plain, "rig": {**plain["rig"]}}
        path["rig"]["inputs"] = [{**plain["rig"]["inputs"][0], "id": "../../etc/passwd"}]
        bomb = base64.b64encode(made("PNG", (9000, 9000))).decode()
        wrong = base64.b64encode(made("PNG", (20, 20))).decode()
        cases = (
            (b"", "not a rig file"),
            (b"\x89PNG\r\n", "not a rig file"),
            (self.data[:-40], "not a rig file"),
            (b'{"format": "something-else"}', "not a rig file"),
            (deep, "not a rig file"),
            (huge, "not a rig file"),
            (infinite, "not a rig file"),
            (self.data.replace(b"192", b"NaN", 1), "not a rig file"),
            (self.changed(version=2), "version 1 can be read"),
            (self.changed(version=[[]]), "version 1 can be read"),
            (self.changed(rig=[]), "should be an object"),
            (self.changed(rig={}), "version is missing"),
            (slow, "frame rate"),
            (json.dumps(path).encode(), "a-z, 0-9"),
            (self.changed(pictures={"../../x": "aa"}), "no name of a picture"),
            (self.changed(pictures={self.name: bomb}), "too large"),
            (self.changed(pictures={self.name: wrong}), "was changed"),
            (self.changed(pictures={self.name: "aGk="}), "is damaged"),
            (self.changed(pictures={}), "is missing from the file"),
            (self.changed(pictures=[]), "an object"),
            (b" " * (MAX_FILE_BYTES + 1), "at most 80 MB"),
        )
        for number, (data, sentence) in enumerate(cases):
            with self.subTest(number), self.assertRaisesRegex(RigError, sentence):
                rig_from_file(data)


class Uploads(unittest.TestCase):
    def test_every_kind_becomes_a_png_with_even_sides_and_nothing_else(self):
        exif = Image.Exif()
        exif[0x0112] = 6  # lies on its side
        exif[0x010E] = "Odile's kitchen"
        cases = (
            (made("PNG", (63, 47)), (64, 48)),
            (made("JPEG", (80, 40), exif=exif), (40, 80)),
            (made("WEBP", (30, 20)), (30, 20)),
            (SVG % b"", (1920, 1440)),
            (b'<!DOCTYPE svg PUBLIC "-//W3C//DTD SVG 1.1//EN" "x.dtd">' + SVG % b"", (1920, 1440)),
        )
        for data, size in cases:
            png, width, height = picture_to_png(data, "any.exe")
            self.assertEqual((width, height), size)
            with Image.open(io.BytesIO(png)) as image:
                self.assertEqual((image.format, image.mode, image.size), ("PNG", "RGBA", size))
                self.assertEqual((image.info, dict(image.getexif())), ({}, {}))
        self.assertNotIn(b"kitchen", png)

    def test_broken_disguised_large_and_unsafe_files_are_refused(self):
        png = made("PNG", (300, 200))
        out = io.BytesIO()
        Image.new("RGB", (20, 20)).save(out, "TIFF")
        unsafe = (
            b"<script>alert(1)</script>",
            b'<image href="file:///etc/passwd"/>',
            b'<image xlink:href="http://elsewhere.example/x.png"/>',
            b'<rect onload="x()"/>',
            b"<style>@import 'http://elsewhere.example'</style>",
            b'<rect fill="url(http://elsewhere.example/#a)"/>',
            b"<foreignObject/>",
        )
        cases = [
            (png[:60], "is not a picture"),
            (png[:60] + b"\0" * 9 + png[69:], "is not a picture"),
            (b"MZ\x90\0" + png, "is not a picture"),
            (b"%PDF-1.7", "is not a picture"),
            (out.getvalue(), "is not a picture"),
            (b"<svg", "is not a picture"),
            (b"<!DOCTYPE x [<!ENTITY a 'b'>]>" + SVG % b"", "script or fetches"),
            (b"\0" * 20_000_001, "at most 20 MB"),
            (b'<svg xmlns="http://www.w3.org/2000/svg"><g>', "is not a picture"),
            (made("PNG", (7700, 10)), "more than 7680 px"),
            *((SVG % part, "script or fetches") for part in unsafe),
        ]
        for number, (data, sentence) in enumerate(cases):
            with self.subTest(number), self.assertRaisesRegex(PictureError, sentence):
                picture_to_png(data, "logo.png")

    def test_an_svg_that_would_take_all_memory_costs_nobody_anything(self):
        for view in (b"0 0 1 1000000000", b"0 0 1000000000 1"):
            data = b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="%s"><path d="M0 0h9"/></svg>'
            try:
                _, width, height = picture_to_png(data % view, "narrow.svg")
                self.assertLessEqual(max(width, height), 1920)
            except PictureError as error:
                self.assertIn("is not a picture", str(error))
        with mock.patch("kettle_media.rig.svg.LIMIT_S", 0), self.assertRaises(PictureError):
            svg_to_png(SVG % b"", 1920)


class Cards(unittest.TestCase):
    def test_text_fits_its_card_and_a_clear_backdrop_is_clear(self):
        for font in ("figtree", "source-serif", "jetbrains-mono"):
            card = Card("A very long line of text that would not fit\nsecond", font, 300)
            pixels = rgba_to_picture(draw_card(card, 640, 360))
            self.assertIsNone(pixels.cover)
            self.assertGreater(int(pixels.y.max()) - int(pixels.y.min()), 150)
            for edge in (pixels.y[:, :6], pixels.y[:, -6:], pixels.y[:4], pixels.y[-4:]):
                self.assertEqual(edge.min(), edge.max())
        clear = rgba_to_picture(draw_card(Card("x", backdrop=""), 640, 360))
        self.assertEqual((clear.cover.min(), clear.cover.max()), (0, 255))
