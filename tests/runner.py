"""Runs the suite in several processes, each with a data folder and a queue of its own."""

from collections.abc import Callable

from django.conf import settings
from django.db import connection
from django.template.backends.jinja2 import Template
from django.test import runner
from django.test.signals import template_rendered
from huey.contrib.djhuey import HUEY

LONGEST = (
    "tests.web.test_costs",
    "tests.core.timing.test_lateness",
    "tests.web.test_start",
    "tests.web.test_installed",
    "tests.browser",
    "tests.web.timing",
    "tests.core.timing",
    "tests.core.sync",
    "tests.web.session",
)
REAL_TIME = ("tests.devices", "tests.browser.test_devices")
"""What plays on a server of its own in real time: beside computing that takes both cores it would be held back."""


def own_folder(counter, *given, **named) -> None:
    """What a process does before its first test: besides Django's own, what is kept outside the database."""
    runner._init_worker(counter, *given, **named)
    data = settings.DATA / f"process-{runner._worker_id}"
    data.mkdir(exist_ok=True)
    settings.DATA, settings.AUDIO = data, data / "audio"
    HUEY.storage_kwargs["filename"] = str(data / "queue.sqlite3")
    HUEY.storage = HUEY.create_storage()


class Suite(runner.ParallelTestSuite):
    """Test classes handed out one by one, those that take longest first, so that none is left over at the end; those
    that need real time behind all others, one at a time."""

    init_worker = own_folder

    def __init__(self, subsuites, *given, **named):
        super().__init__(sorted(subsuites, key=_place), *given, **named)

    def run(self, result):
        every, processes = self.subsuites, self.processes
        for real_time in (False, True):
            self.subsuites = [one for one in every if _room(one).startswith(REAL_TIME) == real_time]
            self.processes = 1 if real_time else processes
            if self.subsuites and not result.shouldStop:
                super().run(result)
        self.subsuites, self.processes = every, processes
        return result


def _room(classes) -> str:
    """The module of a class of tests."""
    (name,) = {type(test).__module__ for test in classes}
    return name


def _place(classes) -> int:
    return next((place for place, room in enumerate(LONGEST) if _room(classes).startswith(room)), len(LONGEST))


def _telling(render: Callable) -> Callable:
    """Jinja's templates do not tell the test client what they were rendered with, as Django's do."""

    def rendered(self, context=None, request=None):
        context = {} if context is None else context
        page = render(self, context, request)
        template_rendered.send(sender=self, template=self, context=context)
        return page

    return rendered


class Runner(runner.DiscoverRunner):
    """Django's runner with that suite. A database is copied as a file: what stands in its write-ahead log goes there
    first."""

    parallel_test_suite = Suite

    def setup_test_environment(self, **given):
        super().setup_test_environment(**given)
        Template.render = _telling(Template.render)

    def setup_databases(self, **given):
        processes, self.parallel = self.parallel, 0
        made = super().setup_databases(**given)
        self.parallel = processes
        if processes > 1:
            with connection.cursor() as cursor:
                cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            for number in range(1, processes + 1):
                connection.creation.clone_test_db(suffix=str(number), verbosity=0)
        return made
