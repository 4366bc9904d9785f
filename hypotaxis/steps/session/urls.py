"""Addresses of the session."""

from django.urls import path

from hypotaxis.steps.session import grid, notes, parts, playing, views

app_name = "session"
urlpatterns = [
    path("", views.home, name="home"),
    path("glass/", views.glass, name="glass"),
    path("new/", views.new, name="new"),
    path("play/", playing.play_in, name="play-in"),
    path("play/freely/", playing.freely, name="play-freely"),
    path("play/<uuid:uid>/", playing.state, name="playing"),
    path("play/<uuid:uid>/stop/", playing.stop, name="stop-playing"),
    path("play/<uuid:uid>/after/", playing.after, name="after-playing"),
    path("join/", views.join, name="join"),
    path("join/<str:file>/", views.joining_file, name="joining"),
    path("bars/", views.bars, name="bars"),
    path("part/<uuid:uid>/", parts.part, name="part"),
    path("part/<uuid:uid>/notes/", notes.home, name="notes"),
    path("part/<uuid:uid>/notes/play/", notes.play, name="notes-play"),
    path("part/<uuid:uid>/notes/loop/<uuid:job>/", notes.looping, name="notes-looping"),
    path("part/<uuid:uid>/part.mid", parts.file, name="part-file"),
    path("grid/<uuid:uid>/", grid.home, name="grid"),
    path("grid/<uuid:uid>/play/", grid.play, name="grid-play"),
    path("grid/<uuid:uid>/loop/<uuid:job>/", grid.looping, name="grid-looping"),
    path("grid/<uuid:uid>/grid.csv", grid.table, name="grid-table"),
    path("track/", views.new_track, name="new-track"),
    path("import/", views.import_file, name="import"),
    path("import/<uuid:job>/", views.importing_file, name="importing"),
    path("import/<uuid:job>/state/", views.importing_state, name="importing-state"),
    path("import/<uuid:job>/cancel/", views.importing_cancel, name="importing-cancel"),
    path("tracks/", views.tracks, name="tracks"),
    path("pass/", views.start, name="start"),
    path("sounds/", views.send_sounds, name="sounds"),
    path("pass/<uuid:uid>/", views.running, name="running"),
    path("pass/<uuid:uid>/cancel/", views.cancel, name="cancel"),
    path("pass/<uuid:uid>/repeat/", views.repeat, name="repeat"),
    path("pass/<uuid:uid>/tempo/", views.lay_tempo, name="lay-tempo"),
    path("pass/<uuid:uid>/measuring/", views.measuring, name="measuring"),
    path("pass/<uuid:uid>/measure/", views.measure, name="measure"),
    path("sessions/", views.sessions, name="sessions"),
    path("sessions/<str:kind>/<uuid:uid>/", views.tidy, name="tidy"),
    path("take/<uuid:uid>/gone/", views.throw_take_away, name="throw-take-away"),
    path("take/<uuid:uid>/place/", views.place, name="place"),
    path("take/<uuid:uid>/keep/", views.keep, name="keep"),
    path("take/<uuid:uid>/<str:how>.wav", views.listen, name="listen"),
]
