"""The Sound step in Chromium: a chain set by what was heard, the ear test, balance, tracks."""

import re

from playwright.sync_api import expect

from tests.browser.case import BrowserCase

PLAYING = "document.querySelector('[data-ear-test]').dataset.playing"
TIME_S = "document.querySelector('audio[data-side={}]').currentTime"


class Sound(BrowserCase):
    def test_1_a_noisy_microphone_is_heard_cleaned_and_judged_by_keys_alone(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/inputs/laptop/set-up/")
        page.keyboard.press("o")
        expect(page.locator("[data-input-state=laptop]")).to_have_text("hears you")
        page.goto(f"{self.base}/rigs/demo/sound/at/laptop/")
        self.until("document.querySelector('[data-after-lufs]').textContent.includes('LUFS')")
        self.check_page()
        # Without any step, then as proposed.
        for name in ("hum_on", "suppression_on", "low_cut"):
            page.locator(f"#chain-{name}").uncheck()
            expect(page.locator("[data-saved]")).to_have_text("Saved")
        page.keyboard.press("l")
        expect(page.get_by_text("Speak on:")).to_be_visible()
        expect(page.locator(".step-says").first).to_contain_text(
            re.compile(r"(49\.9|50\.0)\d* Hz found")
        )
        floor = page.locator(".compare-numbers tr", has_text="Noise floor").locator("td")
        before, plain = floor.nth(0).inner_text(), floor.nth(1).inner_text()
        self.assertEqual(before, plain)
        self.check_page()
        page.keyboard.press("c")
        expect(page.get_by_role("button", name="The proposed chain is set")).to_be_disabled()
        expect(page.locator("#chain-hum_on")).to_be_checked()
        expect(page.locator(".compare [data-job]")).to_have_count(0)
        cleaned = float(floor.nth(1).inner_text().replace("−", "-"))
        self.assertLess(cleaned, float(before.replace("−", "-")) - 10)
        page.keyboard.press("p")
        self.until(f"{PLAYING} === 'before' && {TIME_S.format('before')} > 0.3")
        page.keyboard.press("2")
        self.until(f"{PLAYING} === 'after' && {TIME_S.format('after')} > 0.4")
        page.keyboard.press("p")
        self.until(f"{PLAYING} === ''")
        page.keyboard.press("d")
        expect(page.get_by_role("button", name="One")).to_be_visible()
        expect(page.locator(".ear-sides")).not_to_contain_text("Before")
        page.get_by_role("button", name="Which was which?").click()
        expect(page.locator("[data-ear-says]")).to_contain_text("“One” was")
        page.keyboard.press("u")
        expect(page.locator("#chain-hum_on")).not_to_be_checked()

    def test_2_steps_are_set_by_mouse_and_wrong_values_told(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/sound/")
        page.locator("#chain-echo_on").check()
        expect(page.locator("[data-saved]")).to_have_text("Saved")
        page.locator("#chain-suppression").fill("300")
        page.locator("#chain-suppression").press("Tab")
        expect(page.locator("[data-saved]")).to_have_text("Not saved")
        expect(page.locator(".chain .field-error")).to_contain_text("1 to 100 %")
        self.check_page()
        page.reload()
        expect(page.locator("#chain-echo_on")).to_be_checked()
        page.locator("#ducking-depth_db").fill("20")
        page.locator("#ducking-depth_db").press("Tab")
        expect(page.locator("[data-saved]")).to_have_text("Saved")

    def test_3_the_voice_over_background_is_measured_and_its_gain_taken(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/sound/stems/")
        level = page.locator("#mix-system-gain_db")
        level.fill("12")
        level.press("Tab")
        expect(page.locator("[data-saved]")).to_have_text("Saved")
        page.get_by_role("link", name="Back").click()
        expect(page.locator("[data-balance-words]")).to_contain_text("background")
        take = page.get_by_role("button", name="Use the proposed gain")
        expect(take).to_be_visible()
        self.check_page()
        page.keyboard.press("g")
        expect(page.locator("[data-balance]")).to_have_attribute("data-state", "in balance")
        page.keyboard.press("t")
        expect(page.locator("#mix-system-gain_db")).not_to_have_value("12")

    def test_4_sounds_are_routed_to_tracks_by_mouse_and_keys(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/sound/stems/")
        cross = page.get_by_role("button", name="System audio to Voice")
        cross.click()
        expect(cross).to_have_attribute("aria-pressed", "true")
        cross.focus()
        page.keyboard.press("Enter")
        expect(cross).to_have_attribute("aria-pressed", "false")
        self.check_page()
        page.keyboard.press("3")
        expect(page.get_by_role("button", name="Headset to Mix")).to_have_attribute(
            "aria-pressed", "true"
        )
        page.keyboard.press("u")
        expect(cross).to_be_visible()
        page.get_by_label("One more stem").fill("Room")
        page.get_by_label("One more stem").press("Enter")
        expect(page.get_by_role("button", name="Headset to Room")).to_be_visible()

    def test_5_hearing_oneself_is_off_until_it_is_asked_for(self):
        page = self.page
        page.goto(f"{self.base}/rigs/demo/sound/at/headset/")
        box = page.locator("[data-monitor]")
        expect(box).not_to_be_checked()
        expect(page.get_by_text("Only with headphones")).to_be_visible()
        page.keyboard.press("h")
        self.until("Number(document.querySelector('[data-monitor]').dataset.heard) > 48000")
        page.keyboard.press("h")
        expect(box).not_to_be_checked()
