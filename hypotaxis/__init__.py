"""Hypotaxis: makes hardware instruments part of a computer recording set-up."""

__version__ = "0.1.0"
