import doctest
import importlib
import pkgutil
import unittest

import kettle_core
import kettle_engine
import kettle_media


class Doctests(unittest.TestCase):
    def test_examples_in_docstrings_hold(self):
        tried = 0
        for package in (kettle_core, kettle_media, kettle_engine):
            prefix = f"{package.__name__}."
            for module in pkgutil.walk_packages(package.__path__, prefix):
                found = importlib.import_module(module.name)
                with self.subTest(module.name):
                    result = doctest.testmod(found, extraglobs={"np": __import__("numpy")})
                    self.assertEqual(result.failed, 0)
                    tried += result.attempted
        self.assertGreater(tried, 15)
