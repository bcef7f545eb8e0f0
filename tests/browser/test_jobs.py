"""Work in the background as people see it: counted, listed, cancelled, tried again."""

from playwright.sync_api import expect

from tests.browser.case import BrowserCase


class Jobs(BrowserCase):
    DEMO_TAKES = "5 1"

    def test_the_demos_takes_are_counted_listed_cancelled_and_made_after_all(self):
        page = self.page
        page.goto(self.base)
        expect(page.locator(".jobs-count")).to_have_text("1 job")
        page.keyboard.press("Tab")
        page.locator(".jobs-count").focus()
        page.keyboard.press("Enter")
        page.wait_for_url("**/jobs/")
        job = page.locator(".jobs li").filter(has_text="Takes of the demo")
        expect(job.locator("[data-job-words]")).to_have_text("being made")
        expect(job.locator("[data-job-figures]")).to_contain_text("%")
        self.check_page()
        job.get_by_role("button", name="Cancel").click()
        expect(job.locator("[data-job-words]")).to_have_text("cancelled")
        expect(page.locator(".jobs-count")).to_have_count(0)
        job.get_by_role("button", name="Try again").focus()
        page.keyboard.press("Enter")
        expect(job.locator("[data-job-words]")).to_have_text("being made")
        expect(page.locator(".jobs-count")).to_have_text("1 job")
        # The first take is there as soon as it is recorded, whatever page shows it.
        page.goto(f"{self.base}/rigs/demo/takes/")
        first = page.get_by_role("link", name="Planning a signature, take 1")
        expect(first).to_be_visible(timeout=120_000)
        first.click()
        expect(page.get_by_role("heading", name="Planning a signature, take 1")).to_be_visible()
        expect(page.locator("[data-job]")).to_be_visible()
        page.get_by_role("button", name="Delete this take").click()
        expect(page.get_by_text("so it can be brought back")).to_be_visible()
        page.goto(self.base)
        page.get_by_role("button", name="Bring back Planning a signature, take 1").click()
        expect(page.get_by_text("is back")).to_be_visible()
        self.check_page()
