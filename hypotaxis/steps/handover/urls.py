"""Addresses of the handover."""

from django.urls import path

from hypotaxis.steps.handover import backup_views, opening_views, template_views, views

app_name = "handover"
urlpatterns = [
    path("", views.home, name="home"),
    path("take/<uuid:uid>.wav", views.wave, name="wave"),
    path("track/<uuid:uid>.wav", views.standing, name="standing"),
    path("sheet/", views.sheet, name="sheet"),
    path("sheet.pdf", views.sheet_pdf, name="sheet-pdf"),
    path("notes.mid", views.score, name="score"),
    path("making/", views.making, name="making"),
    path("templates/", template_views.home, name="templates"),
    path("backup/", backup_views.home, name="backup"),
    path("backup/state/", backup_views.state, name="backup-state"),
    path("backup.zip", backup_views.file, name="backup-file"),
    path("open/", opening_views.home, name="open"),
    path("open/<str:file>/", opening_views.beside, name="beside"),
    path("open/<str:file>/gone/", opening_views.thrown_away, name="not-opened"),
    path("opening/<uuid:uid>/", opening_views.state, name="opening"),
    path("opening/<uuid:uid>/stop/", opening_views.stop, name="stop-opening"),
    path("archive.zip", views.file, name="file"),
]
