"""A data folder of an earlier version goes on in this one."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from django.core.management import call_command
from django.db import connection
from django.test import TestCase

from tests.hammer.studio import own_environment

ROOT = Path(__file__).parents[2]
STEP_BY_STEP = """
import json, django
django.setup()
from django.core.management import call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from tests.web.test_upgrade import layout
steps = MigrationExecutor(connection)
steps.loader.replace_migrations = False
steps.loader.build_graph()
steps.migrate([("records", "0050_stamps")])
call_command("migrate", verbosity=0)
print(json.dumps(layout()))
"""
"""As folders were made before all steps were one."""


def layout() -> dict[str, list]:
    """Columns, indices, references and triggers of each table."""
    found = {}
    with connection.cursor() as cursor:
        asked = cursor.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name LIKE 'records%'")
        for (table,) in asked.fetchall():
            columns = [row[1:] for row in cursor.execute(f"PRAGMA table_info({table})").fetchall()]
            indices = [
                [row[2], [one[2] for one in cursor.execute(f"PRAGMA index_info('{row[1]}')").fetchall()]]
                for row in cursor.execute(f"PRAGMA index_list({table})").fetchall()
            ]
            points = [row[2:7] for row in cursor.execute(f"PRAGMA foreign_key_list({table})").fetchall()]
            fired = cursor.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = %s", [table])
            triggers = [name for (name,) in fired.fetchall()]
            found[table] = [sorted(map(str, one)) for one in (columns, indices, points, triggers)]
    return found


class UpgradeTest(TestCase):
    def test_what_the_single_steps_made_is_what_an_empty_folder_gets(self):
        with tempfile.TemporaryDirectory() as data:
            settings = own_environment(HYPOTAXIS_DATA=data, DJANGO_SETTINGS_MODULE="hypotaxis.web.settings")
            command = [sys.executable, "-c", STEP_BY_STEP]
            made = subprocess.run(command, cwd=ROOT, env=settings, capture_output=True, text=True, check=True)
        before, now = json.loads(made.stdout), json.loads(json.dumps(layout()))
        self.assertGreater(len(now), 20)
        self.assertEqual(before, now)

    def test_no_step_is_missing(self):
        call_command("makemigrations", check_changes=True, dry_run=True, verbosity=0)
