"""Addresses of the stand view."""

from django.urls import path

from hypotaxis.web.stand import views

app_name = "stand"
urlpatterns = [
    path("", views.home, name="home"),
    path("state/", views.state, name="state"),
    path("act/", views.act, name="act"),
    path("keys/", views.keys, name="keys"),
    path("keys/state/", views.keys_state, name="keys-state"),
    path("choice/", views.choice, name="choice"),
]
