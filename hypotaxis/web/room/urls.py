"""Addresses of the room."""

from django.urls import path

from hypotaxis.web.room import views

app_name = "room"
urlpatterns = [
    path("", views.home, name="home"),
    path("enter/", views.enter, name="enter"),
    path("leave/", views.leave, name="leave"),
]
