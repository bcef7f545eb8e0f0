"""One rig on two pages, links followed too early, pages that come back."""

from playwright.sync_api import expect

from tests.browser.case import BrowserCase


class TwoPages(BrowserCase):
    def setUp(self):
        super().setUp()
        self.other = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(self.other.close)

    def test_what_another_page_changes_is_shown_and_told_and_typing_is_left_alone(self):
        page, other = self.page, self.other
        page.goto(f"{self.base}/rigs/demo/")
        other.goto(f"{self.base}/rigs/demo/")
        page.locator("#name-tablet").fill("Tablet at the be")
        other.locator("#name-webcam-1").fill("Webcam over there")
        other.keyboard.press("Enter")
        expect(other.locator("[data-saved]").first).to_have_text("Saved")
        told = page.locator("[data-saved]").first
        expect(told).to_contain_text("Changed on another page: “Desk webcam: renamed”")
        expect(page.locator("#name-webcam-1")).to_have_value("Webcam over there")
        expect(page.locator("#name-tablet")).to_have_value("Tablet at the be")
        expect(page.locator("#name-tablet")).to_be_focused()
        page.keyboard.type("nch")
        page.keyboard.press("Enter")
        expect(other.locator("#name-tablet")).to_have_value("Tablet at the bench")

    def test_a_refused_change_says_why_and_shows_what_is(self):
        page, other = self.page, self.other
        # The page is an old one: it is not told what others do.
        page.route_web_socket("**/live/**", lambda _socket: None)
        page.goto(f"{self.base}/rigs/demo/")
        other.goto(f"{self.base}/rigs/demo/")
        other.get_by_role("button", name="Delete Laptop microphone").click()
        expect(other.locator("#name-laptop")).to_have_count(0)
        page.locator("#name-laptop").fill("Too late")
        page.keyboard.press("Enter")
        told = page.locator("[data-saved]").first
        expect(told).to_contain_text("Not saved: This input is not in the rig any more")
        expect(page.locator("#name-laptop")).to_have_count(0)
        other.locator("#undo").click()
        expect(page.locator("#name-laptop")).to_have_count(0)

    def test_what_was_typed_is_kept_when_a_link_is_followed_at_once_and_back_shows_it(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/headset/")
        page.goto(f"{self.base}/rigs/demo/")
        name = page.locator("#name-headset")
        name.fill("Odile's headset")
        # The change event comes with the click; the link is followed before it was sent.
        page.locator("a.row-act").first.click()
        page.wait_for_load_state()
        expect(page.locator("h1")).not_to_have_text("Patch sheet")
        page.go_back()
        expect(page.locator("#name-headset")).to_have_value("Odile's headset")
        page.go_back()
        expect(page.locator("h1")).to_contain_text("Odile's headset")
