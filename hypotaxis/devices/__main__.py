"""The device process: `python -m hypotaxis.devices FD SERVER PANIC`, at the other end of a socket opened for it."""

import sys
from multiprocessing.connection import Connection

from hypotaxis.devices.process import serve

serve(Connection(int(sys.argv[1])), *sys.argv[2:])
