#!/usr/bin/env python
"""Django's command line."""

import os
import sys

if __name__ == "__main__":
    kind = "settings_test" if sys.argv[1:2] == ["test"] else "settings"
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", f"hypotaxis.web.{kind}")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
