"""Django settings. Everything that depends on where it runs comes from the environment.

``ARKUND_DATA``: data folder (database, media, cache), default ``./var``.
``ARKUND_HOSTS``: comma-separated host names to answer to besides loopback.
``ARKUND_PASSPHRASE``: what visitors must say; needed, or made, where it listens beyond loopback.
``ARKUND_REDIS_URL``: moves long work from SQLite to Redis.
"""

import contextlib
import os
import re
import secrets
from pathlib import Path

from arkund.core.errors import ArkundError

PACKAGE = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("ARKUND_DATA", "var")).resolve()
MEDIA = DATA / "media"


def _make_private(folder: Path) -> None:
    """A folder that only its owner may enter; nobody else reads songs, sound or database. Raises
    `ArkundError` where it cannot be made."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise ArkundError(
            f"The data folder {DATA} cannot be used: {error.strerror}. Set ARKUND_DATA to a folder that "
            "may be written to."
        ) from None
    with contextlib.suppress(OSError):
        folder.chmod(0o700)


_make_private(DATA)
_make_private(MEDIA)


def _secret_key() -> str:
    """A key of this data folder's own, made on first use."""
    path = DATA / "secret.key"
    try:
        if not path.exists():
            part = path.with_suffix(f".{os.getpid()}")
            part.touch(mode=0o600)
            part.write_text(secrets.token_urlsafe(48))
            part.replace(path)
        return path.read_text().strip()
    except OSError as error:
        raise ArkundError(
            f"The data folder {DATA} cannot be written to: {error.strerror}. Check who may write there, "
            "or set ARKUND_DATA to another."
        ) from None


SECRET_KEY = _secret_key()
DEBUG = False
LOOPBACK_HOSTS = ("localhost", "127.0.0.1", "[::1]")


def _own_names() -> list[str]:
    """Names from the environment, each one host: a wildcard would let any page in by a name of
    its own that leads here."""
    names = [n.strip() for n in os.environ.get("ARKUND_HOSTS", "").split(",") if n.strip()]
    for name in names:
        if not re.fullmatch(r"[A-Za-z0-9]([A-Za-z0-9.-]*[A-Za-z0-9])?|\[[0-9A-Fa-f:.]+\]", name):
            raise ArkundError(
                f"ARKUND_HOSTS: “{name}” is not the name of one host, such as studio.local."
            )
    return names


def origins_of(names: list[str]) -> list[str]:
    """Where pages under these names come from behind a proxy that speaks TLS: what comes here is plain HTTP."""
    return [f"https://{name}" for name in names]


ALLOWED_HOSTS = [*LOOPBACK_HOSTS, *_own_names()]
PASSPHRASE = os.environ.pop("ARKUND_PASSPHRASE", "")

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "arkund.songs",
    "arkund.bench",
]

MIDDLEWARE = [
    # First, so that files too bear its headers and ask for the host.
    "arkund.bench.security.PolicyMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "arkund.bench.errors.PlainErrorsMiddleware",
    "arkund.bench.door.DoorMiddleware",
]

ROOT_URLCONF = "arkund.studio.urls"
WSGI_APPLICATION = "arkund.studio.wsgi.application"

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [PACKAGE / "bench" / "stations"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": ["django.template.context_processors.request"],
            "builtins": ["arkund.bench.templatetags.bench"],
        },
    }
]

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "arkund.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

STATIC_URL = "/static/"
STATICFILES_FINDERS = [
    "django.contrib.staticfiles.finders.AppDirectoriesFinder",
    "arkund.bench.stations.files.StationScripts",
]
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False

LANGUAGE_CODE = "en"
USE_TZ = True
TIME_ZONE = "UTC"

# Whoever has said the passphrase bears a signed cookie; nothing is stored for them.
SESSION_ENGINE = "django.contrib.sessions.backends.signed_cookies"
SESSION_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_AGE = 30 * 86400
CSRF_COOKIE_SAMESITE = "Strict"
CSRF_TRUSTED_ORIGINS = origins_of(_own_names())
CSRF_FAILURE_VIEW = "arkund.bench.errors.csrf_failure"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
# One file a request, streamed to the media disk; never held in memory.
_make_private(DATA / "uploads")
FILE_UPLOAD_TEMP_DIR = DATA / "uploads"
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 << 20
DATA_UPLOAD_MAX_NUMBER_FILES = 300  # more than a view takes, so that its sentence is read

REDIS_URL = os.environ.get("ARKUND_REDIS_URL", "")

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    # What goes wrong in a view is logged once, with its number (arkund.bench.errors).
    "loggers": {
        "django.request": {"level": "CRITICAL"},
        "django.security.DisallowedHost": {"level": "CRITICAL"},
    },
}
