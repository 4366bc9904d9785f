"""The application as a WSGI callable."""

import gc
import os

from django.core.wsgi import get_wsgi_application

MOST_UNLOOKED = 10_000
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hypotaxis.web.settings")
application = get_wsgi_application()
# A large rig is many small values that refer to each other in no circle: what looks for circles need not look as often
# as Python has it by itself (at every 700 values), and a changed rig is answered an eighth sooner.
gc.set_threshold(MOST_UNLOOKED)
