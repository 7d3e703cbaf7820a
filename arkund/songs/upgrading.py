"""Bringing the database to the schema of this version, with a copy of it kept beforehand."""

from django.core.management import call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.recorder import MigrationRecorder

from arkund.core.errors import ArkundError
from arkund.songs import backups, locks


def bring_up_to_date() -> None:
    """Apply what this version adds. Raises `ArkundError` where a later version was here."""
    with locks.one_at_a_time("upgrading"):
        executor = MigrationExecutor(connection)
        known = {name for app, name in executor.loader.disk_migrations if app == "songs"}
        applied = MigrationRecorder(connection).applied_migrations()
        here = {name for app, name in applied if app == "songs"}
        if unknown := sorted(here - known):
            raise ArkundError(
                f"The database {backups.database()} was last used by a later version of Arkund "
                f"({unknown[-1]}). Update this one, or set ARKUND_DATA to another folder."
            )
        if executor.migration_plan(executor.loader.graph.leaf_nodes()):
            if here:
                backups.keep_copy(always=True)
            call_command("migrate", verbosity=0, interactive=False)
            from arkund.songs import storage

            storage.forget_made()
    if backups.database().exists():
        backups.database().chmod(0o600)
