"""``python -m arkund`` is the ``arkund`` command."""

from arkund.cli import main

raise SystemExit(main())
