"""The Django app."""

from django.apps import AppConfig


class ErrantGust(AppConfig):
    name = "errant_gust.server"
    label = "gust"
