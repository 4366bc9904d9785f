"""Addresses of sync."""

from django.urls import path

from hypotaxis.steps.sync import views

app_name = "sync"
urlpatterns = [path("", views.home, name="home")]
