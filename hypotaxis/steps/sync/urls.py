"""Addresses of sync."""

from django.urls import path

from hypotaxis.steps.sync import views

app_name = "sync"
urlpatterns = [
    path("", views.home, name="home"),
    path("loop/", views.loop, name="loop"),
    path("port/<uuid:uid>/", views.port, name="port"),
    path("clock/<uuid:uid>/", views.clock, name="clock"),
    path("box/<uuid:uid>/", views.box, name="box"),
    path("tempo-in/", views.listen, name="listen"),
    path("tempo-in/<uuid:uid>/", views.tempo_in, name="tempo-in"),
    path("prove/<uuid:uid>/", views.prove, name="prove"),
    path("proof/<uuid:uid>/", views.proof, name="proof"),
    path("proof/<uuid:uid>/stop/", views.stop_proof, name="stop-proof"),
]
