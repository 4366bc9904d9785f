"""Addresses of the rig."""

from django.urls import path

from hypotaxis.steps.rig.views import boxes, findings, lists, ports, rigs, sheet

app_name = "rig"
urlpatterns = [
    path("", sheet.home, name="home"),
    path("add/", sheet.add, name="add"),
    path("connect/", sheet.connect, name="connect"),
    path("replug/", sheet.replug, name="replug"),
    path("tidy/", sheet.tidy, name="tidy"),
    path("undo/", sheet.undo, name="undo"),
    path("redo/", sheet.redo, name="redo"),
    path("cable/<uuid:uid>/", sheet.cable, name="cable"),
    path("cable/<uuid:uid>/unplug/", sheet.unplug, name="unplug"),
    path("box/<uuid:uid>/", boxes.box, name="box"),
    path("box/<uuid:uid>/move/", boxes.move, name="move"),
    path("box/<uuid:uid>/copy/", boxes.copy, name="copy"),
    path("box/<uuid:uid>/remove/", boxes.remove, name="remove"),
    path("box/<uuid:uid>/setup/", boxes.setup, name="setup"),
    path("box/<uuid:uid>/inside/", boxes.inside, name="inside"),
    path("box/<uuid:uid>/route/", boxes.add_route, name="route"),
    path("box/<uuid:uid>/socket/", boxes.new_socket, name="new-socket"),
    path("socket/<uuid:uid>/", boxes.socket, name="socket"),
    path("socket/<uuid:uid>/move/", boxes.move_socket, name="move-socket"),
    path("socket/<uuid:uid>/remove/", boxes.remove_socket, name="remove-socket"),
    path("picture/<slug:name>.png", boxes.picture, name="picture"),
    path("ports/", ports.ports, name="ports"),
    path("ports/propose/", ports.propose, name="propose"),
    path("ports/reported/", ports.reported_names, name="reported-names"),
    path("finding/<slug:key>/", findings.finding, name="finding"),
    path("finding/<slug:key>/meant/", findings.mean, name="mean"),
    path("finding/<slug:key>/again/", findings.stand_again, name="stand-again"),
    path("panels/", lists.panels, name="panels"),
    path("start-up/", lists.startup, name="startup"),
    path("print/cables/", lists.printed_cables, name="printed-cables"),
    path("print/labels/", lists.printed_labels, name="printed-labels"),
    path("rigs/", rigs.rigs, name="rigs"),
    path("rigs/new/", rigs.new_rig, name="new-rig"),
    path("rigs/copy/", rigs.duplicate, name="duplicate-rig"),
    path("rigs/template/", rigs.keep_template, name="keep-template"),
    path("rigs/template/<uuid:uid>/", rigs.from_template, name="from-template"),
    path("rigs/file/", rigs.rig_file, name="rig-file"),
    path("rigs/read/", rigs.read_rig, name="read-rig"),
    path("rigs/<uuid:uid>/", rigs.choose, name="choose-rig"),
]
