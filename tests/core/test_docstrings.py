"""The examples in docstrings are true."""

import doctest
import importlib
import pkgutil

from django.test import SimpleTestCase

import hypotaxis.core
import hypotaxis.standin


class DocstringTest(SimpleTestCase):
    def test_examples(self):
        tried = 0
        for package in (hypotaxis.core, hypotaxis.standin):
            for found in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
                with self.subTest(found.name):
                    failed, examples = doctest.testmod(importlib.import_module(found.name))
                    self.assertEqual(failed, 0)
                    tried += examples
        self.assertGreater(tried, 20)
