"""The shelf as people use it: found, chosen, laid elsewhere, thrown away, had back."""

from playwright.sync_api import expect

from tests.browser.case import BrowserCase

SLOWLY = """() => {
  const ask = window.fetch;
  window.fetch = async (address, how) => {
    if (how?.method === "POST") await new Promise((go) => setTimeout(go, 1500));
    return ask(address, how);
  };
}"""


class Shelf(BrowserCase):
    DEMO_TAKES = "1 2"

    def setUp(self):
        super().setUp()
        self.page.goto(self.base)
        expect(self.page.locator(".card-sheet")).to_have_count(2)
        expect(self.page.locator(".card-sheet img")).to_have_count(2)
        expect(self.page.locator(".jobs-count")).to_have_count(0)

    def test_1_found_laid_in_a_folder_thrown_away_and_had_back_with_the_mouse(self):
        page = self.page
        page.get_by_label("Name of a new folder").fill("Spring")
        page.get_by_role("button", name="Add a folder").click()
        page.wait_for_url("**/?in=*")
        page.goto(self.base)
        page.get_by_role("checkbox", name="Choose Planning a signature, take 1").check()
        bar = page.locator(".shelf-bar")
        bar.get_by_label("Folder").select_option(label="Spring")
        # However slow it is saved: the page of a link that is followed at once shows it.
        page.evaluate(SLOWLY)
        bar.get_by_role("button", name="Lay there").click()
        page.get_by_role("link", name="Spring").click()
        expect(page.locator(".card-sheet")).to_have_count(1)
        page.goto(self.base)
        page.get_by_label("Words in names").fill("signat 2")
        page.get_by_role("button", name="Find").click()
        expect(page.locator(".card-sheet strong")).to_have_text(["Planning a signature, take 2"])
        self.check_page()
        page.get_by_role("checkbox").check()
        self.check_page()
        page.locator(".shelf-bar").get_by_role("button", name="Delete").click()
        expect(page.get_by_text("No take is like that")).to_be_visible()
        expect(page.get_by_role("link", name="1 thing that was deleted")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".card-sheet")).to_have_count(1)

    def test_2_by_keys_alone_and_pictures_move(self):
        page, keys = self.page, self.page.keyboard
        page.get_by_role("checkbox", name="Choose Planning a signature, take 2").focus()
        keys.press("Space")
        page.get_by_label("Tag", exact=True).focus()
        keys.type("draft")
        keys.press("Tab")
        keys.press("Enter")
        expect(page.locator(".tag-word")).to_have_text(["draft"])
        keys.press("u")
        expect(page.locator(".tag-word")).to_have_count(0)
        keys.press("y")
        expect(page.locator(".tag-word")).to_have_count(1)
        page.get_by_role("link", name="take 2").focus()
        keys.press("ArrowRight")
        expect(page.locator("canvas.card-moving:visible")).to_have_count(1)
        keys.press("Enter")
        page.wait_for_url("**/takes/*/")
        name = page.get_by_label("Name of the take")
        name.fill("The second one")
        keys.press("Tab")
        expect(page.locator("[data-part=take-head] h1")).to_have_text("The second one")
        page.goto(self.base)
        expect(page.locator(".card-sheet strong").first).to_have_text("The second one")
        self.assertEqual(self.problems, [])
