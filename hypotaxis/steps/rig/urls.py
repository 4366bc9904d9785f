"""Addresses of the rig."""

from django.urls import path

from hypotaxis.steps.rig import views

app_name = "rig"
urlpatterns = [
    path("", views.home, name="home"),
    path("add/", views.add, name="add"),
    path("box/<uuid:uid>/", views.box, name="box"),
    path("box/<uuid:uid>/move/", views.move, name="move"),
    path("box/<uuid:uid>/copy/", views.copy, name="copy"),
    path("box/<uuid:uid>/remove/", views.remove, name="remove"),
    path("connect/", views.connect, name="connect"),
    path("cable/<uuid:uid>/", views.cable, name="cable"),
    path("cable/<uuid:uid>/unplug/", views.unplug, name="unplug"),
    path("panels/", views.panels, name="panels"),
    path("start-up/", views.startup, name="startup"),
    path("rigs/", views.rigs, name="rigs"),
    path("rigs/new/", views.new_rig, name="new-rig"),
    path("rigs/<uuid:uid>/choose/", views.choose_rig, name="choose-rig"),
    path("rigs/duplicate/", views.duplicate_rig, name="duplicate-rig"),
    path("rigs/read/", views.read_rig, name="read-rig"),
    path("rig.json", views.rig_file, name="rig-file"),
    path("undo/", views.undo, name="undo"),
    path("redo/", views.redo, name="redo"),
]
