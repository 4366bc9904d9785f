"""The app of all rows."""

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class Records(AppConfig):
    """Makes the triggers of the stamps after each migration."""

    name = "hypotaxis.records"

    def ready(self) -> None:
        from hypotaxis.records.stamps import set_triggers

        post_migrate.connect(set_triggers, sender=self)
