"""The order of work on a page leads to what the page is about."""

import re

from django.urls import reverse

from kettle_web.models import Rig, Take, Tutorial
from kettle_web.takes.reading import look_after_takes
from tests.web.test_pages import PageCase


class Path(PageCase):
    def steps(self, address):
        page = self.client.get(address, follow=True).content.decode()
        found = re.search(r'<ol class="steps">(.*?)</ol>', page, re.DOTALL)[1]
        return {
            name: href
            for href, name in re.findall(r'<a href="([^"]+)".*?</svg>\s*(\w+)', found, re.DOTALL)
        }

    def test_assembly_and_export_are_those_of_the_pages_tutorial(self):
        self.put_take("old")
        look_after_takes()
        old = Take.objects.get()
        Take.objects.update(rig=self.rig)
        newer = Tutorial.objects.create(name="Marbling")
        Rig.objects.filter(pk=self.rig.pk).update(tutorial=newer)
        for address, tutorial in (
            (reverse("record", args=["demo"]), newer),
            (newer.get_absolute_url(), newer),
            (old.tutorial.get_absolute_url(), old.tutorial),
            (old.get_absolute_url(), old.tutorial),
            (reverse("tutorial-export", args=[old.tutorial.pk]), old.tutorial),
        ):
            steps = self.steps(address)
            for name, url in (("Assembly", "tutorial-assembly"), ("Export", "tutorial-export")):
                self.assertEqual(steps[name], reverse(url, args=[tutorial.pk]), address)

    def test_looking_makes_no_tutorial(self):
        # A page may be fetched before anybody wants it.
        page = self.client.get(reverse("record", args=["demo"]))
        self.assertContains(page, "Untitled")
        self.assertFalse(Tutorial.objects.exists())
