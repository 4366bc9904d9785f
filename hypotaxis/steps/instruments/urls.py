"""Addresses of the instruments."""

from django.urls import path

from hypotaxis.steps.instruments.views import lines, loops, patches, pieces

app_name = "instruments"
urlpatterns = [
    path("", lines.home, name="home"),
    path("new/", lines.new, name="new"),
    path("loop/", loops.loop, name="new-loop"),
    path("loop/<uuid:uid>/", loops.loop, name="loop"),
    path("loop/<uuid:uid>/remove/", loops.remove, name="remove-loop"),
    path("patches/", patches.lists, name="lists"),
    path("patches/general-midi/", patches.general_midi, name="general-midi"),
    path("patches/preview/<str:name>/", patches.preview, name="preview"),
    path("patches/<uuid:uid>/", patches.browse, name="list"),
    path("patches/<uuid:uid>/remove/", patches.remove, name="remove-list"),
    path("patches/<uuid:uid>/as-<slug:form>/", patches.export, name="export"),
    path("patch/<uuid:uid>/mark/", patches.mark, name="mark"),
    path("<uuid:uid>/", lines.open_line, name="open"),
    path("<uuid:uid>/edit/", lines.edit, name="edit"),
    path("<uuid:uid>/template/", lines.keep_template, name="keep-template"),
    path("<uuid:uid>/sounds/", lines.sounds, name="sounds"),
    path("<uuid:uid>/shaping/", lines.shaping, name="shaping"),
    path("<uuid:uid>/move/", lines.move, name="move"),
    path("<uuid:uid>/channel/", lines.to_channel, name="channel"),
    path("<uuid:uid>/split/", lines.split, name="split"),
    path("<uuid:uid>/part/", pieces.part, name="new-part"),
    path("<uuid:uid>/part/<uuid:piece>/", pieces.part, name="part"),
    path("<uuid:uid>/parts/", pieces.all_parts, name="all-parts"),
    path("<uuid:uid>/return/", pieces.further_return, name="new-return"),
    path("<uuid:uid>/return/<uuid:piece>/", pieces.further_return, name="return"),
    path("<uuid:uid>/without/<uuid:piece>/", pieces.remove, name="remove-piece"),
    path("<uuid:uid>/standing/", pieces.standing, name="standing"),
    path("<uuid:uid>/voices/", pieces.voices, name="voices"),
    path("<uuid:uid>/remove/", lines.remove, name="remove"),
    path("<uuid:uid>/list/", patches.choose_list, name="choose-list"),
    path("<uuid:uid>/find/", patches.find, name="find"),
    path("<uuid:uid>/pick/", patches.pick, name="pick"),
    path("<uuid:uid>/try/", lines.try_out, name="try"),
    path("heard/<uuid:job>/", lines.heard, name="heard"),
    path("heard/<uuid:job>/cancel/", lines.cancel, name="cancel"),
    path("heard/<uuid:job>/reset/", lines.reset_meters, name="reset-meters"),
    path("heard/<uuid:job>/plain.wav", lines.plain, name="plain"),
    path("heard/<uuid:job>/sound.wav", lines.sound, name="sound"),
]
