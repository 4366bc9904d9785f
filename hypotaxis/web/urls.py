"""Addresses: a prefix a step."""

from django.urls import include, path
from django.views.generic import RedirectView

from hypotaxis.web import front_panel, panic

urlpatterns = [
    path("", RedirectView.as_view(pattern_name="rig:home")),
    path("rig/", include("hypotaxis.steps.rig.urls")),
    path("instruments/", include("hypotaxis.steps.instruments.urls")),
    path("sync/", include("hypotaxis.steps.sync.urls")),
    path("timing/", include("hypotaxis.steps.timing.urls")),
    path("session/", include("hypotaxis.steps.session.urls")),
    path("handover/", include("hypotaxis.steps.handover.urls")),
    path("panic/", panic.panic, name="panic"),
    path("room/", include("hypotaxis.web.room.urls")),
    path("stand/", include("hypotaxis.web.stand.urls")),
    path("stand-in/<uuid:uid>/", front_panel.panel, name="front-panel"),
]
handler404 = "hypotaxis.web.errors.not_found"
handler500 = "hypotaxis.web.errors.broken"
