"""What every row a person makes has."""

import uuid

from django.db import models


class WithUid(models.Model):
    """A stable uid, the primary key, so that files, undo and links survive."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)

    class Meta:
        abstract = True
