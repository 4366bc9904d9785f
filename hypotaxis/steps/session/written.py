"""Which track holds the notes that a page is asked for?"""

from django.shortcuts import get_object_or_404

from hypotaxis.core.errors import BadBars
from hypotaxis.records.current import InUse
from hypotaxis.records.models import Track


def check_open(track: Track) -> None:
    """Raises BadBars where a track's notes are frozen."""
    if track.committed:
        raise BadBars(
            f"{track.name} is committed: its notes are as they were recorded. Take it back first, on its takes."
        )


def written_track(here: InUse, uid) -> Track:
    """The track with this uid of the session in use; for a single voice the track whose notes it plays. Raises
    Http404."""
    rows = Track.objects.select_related("session__rig", "voice_of__session__rig")
    track = get_object_or_404(rows, uid=uid, session=here.session)
    return track.voice_of or track
