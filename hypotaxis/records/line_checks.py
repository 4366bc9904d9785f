"""The last line check of a rig, as it is told where it should come before something else."""

from dataclasses import dataclass
from datetime import datetime

from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.linecheck.checked import Checked
from hypotaxis.core.units import counted
from hypotaxis.records.models import Job, Rig

KIND = "line check"


@dataclass(frozen=True)
class LastCheck:
    """When it was made, of how many lines, how many of them were not as planned."""

    made: datetime
    lines: int
    differing: int

    @property
    def told(self) -> str:
        """In words."""
        lines = counted(self.lines, "line")
        return f"{lines}, {self.differing} not as planned" if self.differing else f"{lines}, all as planned"


def last_check(rig: Rig) -> LastCheck | None:
    """The newest one that ended by itself; None where there is none."""
    job = Job.objects.filter(kind=KIND, about=str(rig.uid), state=Job.DONE).order_by("-made").first()
    if job is None or not job.result:
        return None
    found = from_json(Checked, job.result)
    return LastCheck(job.made, len(found.lines), found.differing)
