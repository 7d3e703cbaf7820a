"""The WSGI application that `arkund serve` runs."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
application = get_wsgi_application()
