"""Addresses of the instruments."""

from django.urls import path

from hypotaxis.steps.instruments import views

app_name = "instruments"
urlpatterns = [
    path("", views.home, name="home"),
    path("new/", views.new, name="new"),
    path("<uuid:uid>/", views.open_line, name="open"),
    path("<uuid:uid>/edit/", views.edit, name="edit"),
    path("<uuid:uid>/remove/", views.remove, name="remove"),
    path("<uuid:uid>/try/", views.try_out, name="try"),
    path("heard/<uuid:job>/", views.heard, name="heard"),
    path("heard/<uuid:job>/cancel/", views.cancel, name="cancel"),
    path("heard/<uuid:job>/sound.wav", views.sound, name="sound"),
]
