"""The examples in the core's docstrings are true."""

import doctest
import importlib
import pkgutil

import numpy as np

import hypotaxis.core


def load_tests(loader, tests, pattern):
    """Every module of the core that has examples becomes tests."""
    for found in pkgutil.walk_packages(hypotaxis.core.__path__, "hypotaxis.core."):
        module = importlib.import_module(found.name)
        suite = doctest.DocTestSuite(module, extraglobs={"np": np})
        tests.addTests(suite)
    return tests
