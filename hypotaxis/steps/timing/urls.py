"""Addresses of timing."""

from django.urls import path

from hypotaxis.steps.timing import views

app_name = "timing"
urlpatterns = [path("", views.home, name="home")]
