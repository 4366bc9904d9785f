"""The device process: `python -m hypotaxis.devices FD`, at the other end of a socket opened for it."""

import faulthandler
import os
import sys
from multiprocessing.connection import Connection

from hypotaxis.devices.process import serve

# A library that fails takes the process along; where it stood is kept in the log.
faulthandler.enable()
serve(Connection(int(sys.argv[1])))
# Nothing is left to be done, and some libraries fail in their own clearing up when a server has gone.
os._exit(0)
