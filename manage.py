"""Django's own commands, for developers: ``python manage.py makemigrations`` and the like."""

import os
import sys

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
