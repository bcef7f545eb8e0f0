"""The simulated computer: what its displays show besides the work, and the switches for it."""

from dataclasses import dataclass
from functools import lru_cache

from PIL import Image, ImageDraw

from kettle_core.picture.picture import Picture, Plane, paste, picture_from_i420
from kettle_core.rig.devices import Surrounding
from kettle_studio import script, world
from kettle_studio.canvas import font, image_to_i420, image_to_picture
from kettle_studio.kept import kept

SECOND_SIZE = (2560, 1440)
BAR_PX = 40
BANNER_SIZE = (480, 116)
WALL, SHEET, INK, SOFT = (52, 74, 82), (250, 250, 247), (32, 44, 50), (108, 122, 128)
LINE, MARK = (218, 222, 220), (176, 92, 52)
MAIL_BOX = (150, 60, 1470, 1180)
CHAT_BOX = (1680, 60, 820, 640)
PAGES_BOX = (1680, 740, 820, 620)
TABS_PX = 54
PAGE_TABS = ("Paper stock", "Bench radio")
MAILS = (
    ("Tamsin Quillby", "Linen thread, three colours", "The oxblood reel is darker than I hoped."),
    ("Harrow Paper Mill", "Order 2217", "250 sheets of 120 g/m², grain long, leave us on Tuesday."),
    ("Corvin Astley", "Marbling day", "Bring aprons. The size needs a night to rest."),
    ("Folding Circle", "Minutes of the last evening", "Eleven of us, one lost bone folder."),
    ("Odile Fernhollow", "Notes for lesson 4", "Creep first. Show the short fold twice."),
    ("Ilse Brandt", "Your almanac", "Page nine stands on its head, is that right?"),
)  # fmt: skip
CHAT = (
    ("Corvin", "Did the mill answer?"),
    ("Odile", "Tuesday, they say."),
    ("Tamsin", "I can fetch it on the way."),
    ("Odile", "You are a treasure."),
)
STOCK = (("Hazel 120", "grain long", "4.10"), ("Chalk 100", "grain long", "3.60"),
         ("Slate 160", "grain short", "5.20"), ("Oat 90", "grain long", "2.95"))  # fmt: skip


@dataclass
class Switches:
    """What of the computer and the room is on; changed from the studio page."""

    bar: bool = True
    icons: bool = True
    messages: bool = True
    pings: bool = True
    cloth: bool = False


def surroundings(device_id: str, switches: Switches) -> list[Surrounding]:
    """What will be in a recording of a device besides the work."""
    bar = Surrounding(
        "bar", "Bar at the bottom", "The clock and what is running, in 40 px along the lower edge.",
        switches.bar, True,
    )  # fmt: skip
    found = {
        "webcam-1": [
            Surrounding(
                "cloth", "Green cloth behind you",
                "It can be taken out by a colour key on the Scenes page.", switches.cloth, True,
            ),
        ],
        "display-1": [
            bar,
            Surrounding(
                "name", "Your name in Quirefold",
                "“Odile Fernhollow” stands at the right end of its title bar.", True, False,
                "Record the tab or a region below the title bar instead of the display.",
            ),
        ],
        "display-2": [
            Surrounding(
                "messages", "Messages that pop up",
                "Mail and messages appear in the upper right corner, with sender and text.",
                switches.messages, True,
            ),
            Surrounding(
                "icons", "Icons on the desktop", "Five files with their names, at the left edge.",
                switches.icons, True,
            ),
            bar,
        ],
        "system": [
            Surrounding(
                "pings", "Sounds of mail and messages",
                "A bell of two tones with every message, about four a minute.",
                switches.pings and switches.messages, True,
            ),
        ],
    }  # fmt: skip
    return found.get(device_id, [])


@lru_cache(maxsize=4)
def _bar(width: int) -> Picture:
    image = Image.new("RGB", (width, BAR_PX), (28, 40, 46))
    draw = ImageDraw.Draw(image)
    for place, name in enumerate(("Quirefold", "Mail", "Messages", "Pages")):
        draw.rounded_rectangle((16 + place * 150, 6, 156 + place * 150, 34), 6, fill=(56, 74, 82))
        draw.text((30 + place * 150, 9), name, font=font(17), fill=(226, 232, 230))
    draw.text((width - 100, 8), "10:42", font=font(19, 600), fill=(226, 232, 230))
    return image_to_picture(image)


@lru_cache(maxsize=8)
def _banner(number: int) -> Picture:
    _, program, sender, text = script.MESSAGES[number]
    width, height = BANNER_SIZE
    image = Image.new("RGB", BANNER_SIZE, (255, 252, 244))
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, width - 1, height - 1), outline=LINE, width=2)
    draw.rectangle((0, 0, 8, height), fill=MARK)
    draw.text((28, 12), program, font=font(16), fill=SOFT)
    draw.text((28, 36), sender, font=font(22, 700), fill=INK)
    draw.text((28, 70), text, font=font(20), fill=INK)
    return image_to_picture(image)


def lay_bar(buffer: Plane) -> None:
    """Draw the bar along the lower edge of a display, in place."""
    frame = picture_from_i420(buffer)
    paste(frame, _bar(frame.width), 0, frame.height - BAR_PX)


def _window(draw: ImageDraw.ImageDraw, box: tuple[int, int, int, int], title: str) -> None:
    left, top, width, height = box
    draw.rectangle((left, top, left + width - 1, top + height - 1), fill=SHEET)
    draw.rectangle((left, top, left + width - 1, top + TABS_PX - 1), fill=(226, 229, 226))
    draw.text((left + 22, top + 13), title, font=font(23, 700), fill=INK)


@kept
def _windows() -> Plane:
    """The second display's windows without icons, bar and messages."""
    image = Image.new("RGB", SECOND_SIZE, WALL)
    draw = ImageDraw.Draw(image)
    _draw_mail(draw)
    _draw_chat(draw)
    _draw_pages(draw, 0)
    return image_to_i420(image)


def _draw_mail(draw: ImageDraw.ImageDraw) -> None:
    left, top, width, _ = MAIL_BOX
    _window(draw, MAIL_BOX, "Mail · 6 letters")
    for place, (sender, subject, text) in enumerate(MAILS):
        y = top + TABS_PX + 24 + place * 176
        draw.text((left + 40, y), sender, font=font(26, 700), fill=INK)
        draw.text((left + 40, y + 40), subject, font=font(28), fill=INK)
        draw.text((left + 40, y + 86), text, font=font(24), fill=SOFT)
        draw.text((left + width - 130, y), f"{9 - place}:1{place}", font=font(22), fill=SOFT)
        draw.line((left + 40, y + 146, left + width - 40, y + 146), fill=LINE, width=2)


def _draw_chat(draw: ImageDraw.ImageDraw) -> None:
    left, top, width, _ = CHAT_BOX
    _window(draw, CHAT_BOX, "Messages · Folding Circle")
    for place, (name, text) in enumerate(CHAT):
        y = top + TABS_PX + 28 + place * 128
        x = left + (width - 480 if name == "Odile" else 28)
        draw.rounded_rectangle((x, y, x + 450, y + 100), 16, fill=(232, 238, 235))
        draw.text((x + 20, y + 12), name, font=font(19, 700), fill=MARK)
        draw.text((x + 20, y + 46), text, font=font(25), fill=INK)


def _draw_pages(draw: ImageDraw.ImageDraw, shown: int) -> None:
    left, top, width, height = PAGES_BOX
    _window(draw, PAGES_BOX, "")
    for place, name in enumerate(PAGE_TABS):
        x = left + 12 + place * 220
        if place == shown:
            draw.rectangle((x, top + 8, x + 206, top + TABS_PX), fill=SHEET)
        draw.text((x + 18, top + 14), name, font=font(21, 600), fill=INK)
    if shown == 0:
        for place, (name, grain, price) in enumerate(STOCK):
            y = top + TABS_PX + 40 + place * 120
            draw.text((left + 40, y), name, font=font(34, 700), fill=INK)
            draw.text((left + 40, y + 46), grain, font=font(22), fill=SOFT)
            draw.text((left + width - 150, y), price, font=font(34), fill=MARK)
    else:
        draw.text((left + 40, top + 120), "Bench radio", font=font(54, 700), fill=INK)
        draw.text((left + 40, top + 200), "Slow strings for steady hands", font=font(28), fill=SOFT)
        for place in range(26):
            tall = 40 + (place * 53) % 150
            x = left + 44 + place * 28
            draw.rectangle((x, top + height - 60 - tall, x + 14, top + height - 60), fill=MARK)


@lru_cache(maxsize=1)
def _icons() -> Picture:
    image = Image.new("RGB", (150, 900), WALL)
    draw = ImageDraw.Draw(image)
    names = ("proofs", "thread list", "lesson 4", "old sheets", "receipts")
    for place, name in enumerate(names):
        y = 30 + place * 172
        draw.polygon([(44, y), (88, y), (106, y + 18), (106, y + 84), (44, y + 84)], fill=SHEET)
        draw.text((75, y + 108), name, font=font(20), fill=(255, 255, 255), anchor="mm")
    return image_to_picture(image)


def draw_second(key: tuple[int | None, bool, bool]) -> Plane:
    """The busy display by (message number, icons, bar) as a new I420 buffer (2160, 2560)."""
    message, icons, bar = key
    buffer = _windows().copy()
    frame = picture_from_i420(buffer)
    if icons:
        paste(frame, _icons(), 0, 60)
    if bar:
        lay_bar(buffer)
    if message is not None:
        paste(frame, _banner(message), SECOND_SIZE[0] - BANNER_SIZE[0] - 28, 28)
    return buffer


@kept
def radio_page() -> Plane:
    """The tab that lies behind, as an I420 buffer of the size of the window's inside."""
    image = Image.new("RGB", SECOND_SIZE, WALL)
    _draw_pages(ImageDraw.Draw(image), 1)
    left, top, width, height = PAGES_BOX
    return image_to_i420(image.crop((left, top + TABS_PX, left + width, top + height)))


TABLET_SIZE = (1080, 1920)


def draw_tablet(key: tuple[int, bool]) -> Plane:
    """The sewing-station counter by (station, touched) as a new I420 buffer (2880, 1080)."""
    station, touched = key
    image = Image.new("RGB", TABLET_SIZE, (29, 43, 51))
    draw = ImageDraw.Draw(image)
    draw.text((540, 170), "Sewing stations", font=font(64, 600), fill=(196, 210, 212), anchor="mm")
    draw.text((540, 620), str(station), font=font(460, 700), fill=(255, 255, 255), anchor="mm")
    draw.text((540, 960), f"of {script.STATIONS}", font=font(64), fill=(196, 210, 212), anchor="mm")
    for place in range(script.STATIONS):
        x = 108 + place * 72
        fill = (214, 122, 62) if place < station else (66, 86, 94)
        draw.ellipse((x - 22, 1150, x + 22, 1194), fill=fill)
    hint = "kettle stitch" if station in (1, script.STATIONS) else "round the tape"
    draw.text((540, 1310), hint, font=font(56), fill=(226, 232, 230), anchor="mm")
    x, y = world.TABLET_BUTTON
    fill = (236, 150, 92) if touched else (214, 122, 62)
    draw.rounded_rectangle((x - 330, y - 110, x + 330, y + 110), 60, fill=fill)
    draw.text((x, y), "Next station", font=font(72, 700), fill=(255, 255, 255), anchor="mm")
    foot = "tide-almanac, signature 2 of 6"
    draw.text((540, 1820), foot, font=font(40), fill=(140, 158, 164), anchor="mm")
    return image_to_i420(image)
