import doctest
import importlib
import pkgutil
import unittest

import kettle_core


class Doctests(unittest.TestCase):
    def test_examples_in_docstrings_hold(self):
        tried = 0
        for module in pkgutil.iter_modules(kettle_core.__path__):
            found = importlib.import_module(f"kettle_core.{module.name}")
            with self.subTest(module.name):
                result = doctest.testmod(found, extraglobs={"np": __import__("numpy")})
                self.assertEqual(result.failed, 0)
                tried += result.attempted
        self.assertGreater(tried, 5)
