"""Sync: thin today, and says so."""

from django.shortcuts import render

from hypotaxis.records.current import in_use
from hypotaxis.records.plan import tempo_of


def home(request):
    """What of sync can be done today."""
    here = in_use(request)
    tempo = tempo_of(here.session) if here.session else None
    context = {"tempo": tempo, "changes": len(tempo.tempos) - 1 if tempo else 0}
    if tempo:
        bpm = tempo.bpm_at(0)
        context |= {"bpm": f"{bpm:.4g}", "clock_ms": f"{2500 / bpm:.3f}", "quarter_ms": f"{60000 / bpm:.1f}"}
    return render(request, "sync/home.html", context)
