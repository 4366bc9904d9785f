"""Hypotaxis: makes hardware instruments part of a computer recording set-up."""

import os

__version__ = "0.1.0"

# Before numpy is loaded: our matrices are small, and threads that spin over them cost ten times their work where
# something else is running, a recording above all.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
