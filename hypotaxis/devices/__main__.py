"""The device process: `python -m hypotaxis.devices FD SERVER PANIC`, at the other end of a socket opened for it."""

import faulthandler
import sys
from multiprocessing.connection import Connection

from hypotaxis.devices.process import serve

# A library that fails takes the process along; where it stood is kept in the log.
faulthandler.enable()
serve(Connection(int(sys.argv[1])), *sys.argv[2:])
