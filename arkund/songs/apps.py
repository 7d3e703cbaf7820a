"""The app that stores songs."""

from django.apps import AppConfig


class SongsConfig(AppConfig):
    """Songs, their revisions, jobs and prints."""

    name = "arkund.songs"
    label = "songs"
