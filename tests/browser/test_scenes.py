"""The drawing table as people use it: by mouse, and again by keys alone."""

import io
import re

from PIL import Image, ImageDraw
from playwright.sync_api import expect

from tests.browser.case import BrowserCase

# With a number where the name is taken.
MADE = re.compile("^Main display and Desk webcam")


def logo():
    image = Image.new("RGBA", (200, 200), (0, 0, 0, 0))
    ImageDraw.Draw(image).ellipse((20, 20, 180, 180), outline=(169, 79, 39, 255), width=24)
    out = io.BytesIO()
    image.save(out, "PNG")
    return {"name": "Binder's mark.png", "mimeType": "image/png", "buffer": out.getvalue()}


class Scenes(BrowserCase):
    DEMO_PART = "1"

    def open_scene(self, scene_id="scene-1"):
        self.page.goto(f"{self.base}/rigs/demo/scenes/at/{scene_id}/")
        drawn = f'canvas[data-picture="scene:{scene_id}"]'
        self.until(f"Number(document.querySelector('{drawn}').dataset.drawn ?? 0) > 0")

    def at(self, x, y):
        """A place of the frame on the page."""
        box = self.page.locator(".sheet").bounding_box()
        scale = box["width"] / 1920
        return box["x"] + x * scale, box["y"] + y * scale

    def drag(self, start, end):
        mouse = self.page.mouse
        mouse.move(*self.at(*start))
        mouse.down()
        mouse.move(*self.at((start[0] + end[0]) / 2, (start[1] + end[1]) / 2), steps=4)
        mouse.move(*self.at(*end), steps=6)
        mouse.up()

    def place(self):
        names = ("left", "top", "width", "height")
        return tuple(int(self.page.locator(f"#id_place_{n}").input_value()) for n in names)

    def until_place(self, **wanted):
        for name, value in wanted.items():
            self.until(f"document.querySelector('#id_place_{name}')?.value === '{value}'")

    def until_there(self, selector, x, y):
        """The page lays itself out anew when it is another size: until a place has something."""
        there = "([x, y, selector]) => document.elementFromPoint(x, y)?.matches(selector) === true"
        for _ in range(100):
            if self.page.evaluate(there, [*self.at(x, y), selector]):
                return
            self.page.wait_for_timeout(100)
        self.fail(f"There is no {selector}.")

    def press_until_focused(self, key, selector):
        for _ in range(80):
            if self.page.evaluate(f"document.activeElement?.matches('{selector}')"):
                return
            self.page.keyboard.press(key)
        self.fail(f"{selector} cannot be reached by {key}")

    def chosen(self, words):
        heading = self.page.locator("[data-part=table-facts] h2").first
        expect(heading).to_contain_text(words)

    def test_1_by_mouse(self):
        page = self.page
        self.open_scene()
        self.check_page()
        page.locator("#new-scene").click()
        page.get_by_title("Screen, camera top left").first.click()
        page.get_by_role("button", name="Make the scene").click()
        expect(page.get_by_role("heading", name="Scene", exact=True)).to_be_visible()
        expect(page.locator("#id_name")).to_have_value(MADE)
        # Dragged near the right and lower edges, it snaps to them.
        page.mouse.click(*self.at(250, 250))
        self.chosen("Desk webcam")
        self.drag((250, 250), (1698, 858))
        self.until_place(left=1488, top=648)
        self.check_page()
        # Pulled at its upper left corner it keeps its aspect ratio and its other corner.
        self.until_there("[data-handle]", 1488, 648)
        self.drag((1488, 648), (1388, 548))
        self.until("document.querySelector('#id_place_width')?.value > 500")
        left, top, width, height = self.place()
        self.assertEqual((left + width, top + height, width), (1920, 1080, height))
        page.locator("#crop").click()
        self.drag((left, top + height / 2), (left + 60, top + height / 2))
        self.until(f"document.querySelector('#id_place_width')?.value < {width - 40}")
        self.assertEqual(self.place()[0] + self.place()[2], 1920)
        page.keyboard.press("Escape")
        page.get_by_text("Shape and edge").click()
        page.get_by_title("Ellipse").click()
        expect(page.locator("[data-fold=shape] summary")).to_contain_text("ellipse")
        page.locator("#undo").click()
        expect(page.locator("[data-fold=shape] summary")).to_contain_text("circle")
        page.locator("#undo").click()
        self.until_place(width=width)
        page.reload()
        page.locator("#redo").click()
        self.until(f"document.querySelector('#id_place_width')?.value < {width}")

    def test_2_a_logo_on_a_spot_in_two_scenes_is_moved_once(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/add/")
        page.locator("input[type=file]").first.set_input_files(logo())
        page.get_by_role("button", name="Add the picture").click()
        expect(page.get_by_role("heading", name="Binder's mark")).to_be_visible()
        for scene_id in ("scene-2", "scene-1"):
            self.open_scene(scene_id)
            page.locator("#add-layer").click()
            page.locator(".menu-list").get_by_role("button", name="Binder's mark").click()
            self.chosen("Binder's mark")
            page.get_by_text("Spot", exact=False).locator("visible=true").last.click()
            if scene_id == "scene-2":
                page.locator("#spot-name").fill("Corner mark")
                page.get_by_role("button", name="Save it").click()
            else:
                page.locator("#spot").select_option(label="Corner mark")
            expect(page.locator("[data-fold=spot] summary")).to_contain_text("Corner mark")
        left, top, width, height = self.place()
        middle = (left + width / 2, top + height / 2)
        self.drag(middle, (middle[0] + 1300, middle[1] + 130))
        self.until(f"document.querySelector('#id_place_left')?.value > {left + 1200}")
        moved = self.place()
        self.open_scene("scene-2")
        page.locator("[data-stack] a", has_text="Binder's mark").click()
        self.chosen("Binder's mark")
        self.assertEqual(self.place(), moved)
        expect(page.locator("[data-marks]")).to_contain_text("spot “Corner mark”")
        self.check_page()

    def test_5_an_answer_that_comes_too_late_takes_nothing_back(self):
        page, held = self.page, []

        def hold(route):
            """Keep the answer of what the page looks for by itself."""
            if route.request.resource_type == "fetch" and not held:
                held.append((route, route.fetch()))
            else:
                route.continue_()

        self.open_scene("scene-2")
        page.route("**/scenes/at/scene-2/", hold)
        for _ in range(300):
            if held:
                break
            page.wait_for_timeout(100)
        page.locator("#add-layer").click()
        page.locator(".menu-list").get_by_role("button", name="Main display").click()
        self.chosen("Main display")
        route, answer = held[0]
        with page.expect_response(lambda got: got.request == route.request) as late:
            route.fulfill(response=answer)
        late.value.finished()
        page.locator("#add-layer").click()
        self.chosen("Main display")
        page.unroute("**/scenes/at/scene-2/")
        page.reload()
        self.chosen("Main display")

    def test_6_what_the_page_looks_for_while_it_saves_takes_nothing_back(self):
        page, held = self.page, []

        def hold(route):
            """Keep what is saved until the page has looked for itself."""
            if route.request.method == "POST" and not held:
                held.append(route)
            else:
                route.continue_()

        self.open_scene("scene-2")
        page.evaluate(
            "document.addEventListener('parts:swapped', () => (document.body.dataset.swapped = ''))"
        )
        page.route("**/scenes/**", hold)
        page.locator("#add-layer").click()
        page.locator(".menu-list").get_by_role("button", name="Main display").click()
        expect(page.locator("body")).to_have_attribute("data-swapped", "")
        held[0].continue_()
        self.chosen("Main display")

    def test_3_by_keys_alone(self):
        page = self.page
        self.open_scene("scene-3")
        page.keyboard.press("n")
        self.press_until_focused("Tab", "#new-corner-bottom-right")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowLeft")
        self.press_until_focused("Tab", "#new-scene-card .act-main")
        page.keyboard.press("Enter")
        expect(page.locator("#id_name")).to_have_value(MADE)
        self.press_until_focused("Tab", "#layer-webcam-1")
        page.keyboard.press("Enter")
        self.chosen("Desk webcam")
        self.until("document.activeElement?.id === 'layer-webcam-1'")
        for _ in range(3):
            page.keyboard.press("ArrowLeft")
        page.keyboard.press("Shift+ArrowUp")
        self.until_place(left=1441, top=594)
        page.keyboard.press("Control+Shift+ArrowRight")
        self.until_place(width=442, height=442)
        page.keyboard.press("t")
        self.until_place(turn=90)
        page.keyboard.press("o")
        self.until_place(width=1080)
        page.keyboard.press("u")
        self.until_place(width=442)
        page.keyboard.press("y")
        self.until_place(width=1080)
        self.press_until_focused("Tab", "[data-fold=cut] > summary")
        page.keyboard.press("Enter")
        self.press_until_focused("Tab", "#id_cut_top")
        page.keyboard.type("100")
        page.keyboard.press("Tab")
        expect(page.locator("[data-fold=cut] summary")).to_contain_text("× 980 px left")
        self.press_until_focused("Tab", "[data-fold=shape] > summary")
        page.keyboard.press("Enter")
        self.press_until_focused("Tab", "[name=shape]")
        page.keyboard.press("ArrowRight")
        expect(page.locator("[data-fold=shape] summary")).to_contain_text("ellipse")
        page.keyboard.press("Escape")
        self.chosen("Scene")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("New scene")
        page.keyboard.press("Escape")
        page.keyboard.press("1")
        page.wait_for_url("**/at/scene-1/")

    def test_4_the_change_is_played_and_a_plain_backdrop_taken_out(self):
        page = self.page
        page.goto(f"{self.base}/studio/")
        page.locator("#switch-cloth").click()
        expect(page.locator("#switch-cloth")).to_contain_text("on")
        self.open_scene()
        page.locator("#chip-webcam-1").click()
        self.chosen("Desk webcam")
        page.get_by_text("Colour key").locator("visible=true").first.click()
        page.locator("#pick").click()
        page.mouse.click(*self.at(1520, 700))
        expect(page.locator("[data-fold=key] summary")).to_contain_text("taken out")
        page.locator("#matte").click()
        self.until("Number(document.querySelector('[data-matte]').dataset.drawn ?? 0) > 0")
        grey = (
            "(() => { const c = document.querySelector('[data-matte]');"
            "const d = (x, y) => c.getContext('2d').getImageData("
            "c.width * x / 1920, c.height * y / 1080, 1, 1).data[0];"
            "return [d(1500, 720), d(1660, 800)]; })()"
        )
        cloth, face = page.evaluate(grey)
        self.assertLess(cloth, 30)
        self.assertGreater(face, 220)
        page.locator("#matte").click()
        before = page.evaluate("document.querySelector('[data-sheet]').toDataURL()")
        page.locator("#play").click()
        same = f"document.querySelector('[data-sheet]').toDataURL() !== '{before[:60]}'"
        self.until(same)
        self.assertEqual(self.problems, [])
