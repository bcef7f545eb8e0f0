"""Work in the background as people see it: counted, listed, cancelled, tried again."""

import re

from playwright.sync_api import expect

from tests.browser.case import BrowserCase


class Jobs(BrowserCase):
    DEMO_TAKES = "20 1"

    def test_a_page_that_counts_none_follows_the_job_that_it_shows(self):
        def uncounted(route):
            # The job ended after it was read and before it was counted.
            answer = route.fetch()
            body = re.sub('<a class="jobs-count".*?</a>', "", answer.text())
            route.fulfill(response=answer, body=body)

        page, other = self.page, self.browser.new_page()
        self.addCleanup(other.close)
        page.route("**/jobs/", uncounted, times=1)
        page.goto(f"{self.base}/jobs/")
        words = page.locator(".jobs li").filter(has_text="Takes of the demo")
        expect(words).to_contain_text("being made")
        other.goto(f"{self.base}/jobs/")
        other.get_by_role("button", name="Cancel").click()
        expect(words).to_contain_text("cancelled")
        other.get_by_role("button", name="Try again").click()
        expect(other.locator(".jobs-count")).to_have_text("1 job")

    def test_the_demos_takes_are_counted_listed_cancelled_and_tried_again(self):
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
