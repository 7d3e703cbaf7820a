"""The app that shows songs."""

from django.apps import AppConfig


class BenchConfig(AppConfig):
    """Pages, pictures and sound for the browser."""

    name = "arkund.bench"
    label = "bench"
