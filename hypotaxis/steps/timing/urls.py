"""Addresses of timing."""

from django.urls import path

from hypotaxis.steps.timing import views

app_name = "timing"
urlpatterns = [
    path("", views.home, name="home"),
    path("new/", views.new, name="new"),
    path("test-score.mid", views.test_score, name="test-score"),
    path("loop-signal.wav", views.loop, name="loop-signal"),
    path("trip/<uuid:uid>/", views.trip, name="trip"),
    path("trip/<uuid:uid>/typed/", views.typed, name="typed"),
    path("take/", views.take, name="take"),
    path("wires/", views.wires, name="wires"),
    path("together/", views.together, name="together"),
    path("running/", views.running, name="running"),
    path("stop-all/", views.stop_all, name="stop-all"),
    path("<uuid:uid>/", views.open_sounding, name="open"),
    path("<uuid:uid>/state/", views.state, name="state"),
    path("<uuid:uid>/wave/", views.wave, name="wave"),
    path("<uuid:uid>/aligned.wav", views.aligned, name="aligned"),
    path("<uuid:uid>/again/", views.again, name="again"),
    path("<uuid:uid>/retake/", views.retake, name="retake"),
    path("<uuid:uid>/compare/", views.compare, name="compare"),
    path("<uuid:uid>/rename/", views.rename, name="rename"),
    path("<uuid:uid>/cancel/", views.cancel, name="cancel"),
    path("<uuid:uid>/remove/", views.remove, name="remove"),
]
