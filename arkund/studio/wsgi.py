"""The WSGI application that `arkund serve` runs, and whom it knows."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
application = get_wsgi_application()

from arkund.bench.door import is_known  # noqa: E402 - reads the settings that were just named

__all__ = ["application", "is_known"]
