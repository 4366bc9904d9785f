"""Addresses of the handover."""

from django.urls import path

from hypotaxis.steps.handover import views

app_name = "handover"
urlpatterns = [
    path("", views.home, name="home"),
    path("take/<uuid:uid>.wav", views.wave, name="wave"),
    path("track/<uuid:uid>.wav", views.standing, name="standing"),
    path("sheet/", views.sheet, name="sheet"),
    path("sheet.pdf", views.sheet_pdf, name="sheet-pdf"),
    path("notes.mid", views.score, name="score"),
    path("making/", views.making, name="making"),
    path("archive.zip", views.file, name="file"),
]
