"""Django settings. Everything that depends on where it runs comes from the environment.

``ARKUND_DATA``: data folder (database, media, cache), default ``./var``.
``ARKUND_HOSTS``: comma-separated host names to answer to besides loopback.
``ARKUND_REDIS_URL``: moves long work from SQLite to Redis.
"""

import os
import secrets
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("ARKUND_DATA", "var")).resolve()
DATA.mkdir(parents=True, exist_ok=True)
MEDIA = DATA / "media"


def _secret_key() -> str:
    """A key of this data folder's own, made on first use."""
    path = DATA / "secret.key"
    if not path.exists():
        part = path.with_suffix(f".{os.getpid()}")
        part.write_text(secrets.token_urlsafe(48))
        part.chmod(0o600)
        part.replace(path)
    return path.read_text().strip()


SECRET_KEY = _secret_key()
DEBUG = False
ALLOWED_HOSTS = ["localhost", "127.0.0.1", "[::1]", "testserver",
                 *filter(None, os.environ.get("ARKUND_HOSTS", "").split(","))]  # fmt: skip

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.staticfiles",
    "arkund.songs",
    "arkund.bench",
]

MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "arkund.bench.security.PolicyMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "arkund.bench.errors.PlainErrorsMiddleware",
]

ROOT_URLCONF = "arkund.studio.urls"
WSGI_APPLICATION = "arkund.studio.wsgi.application"

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
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
STATICFILES_DIRS: list[Path] = []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False

LANGUAGE_CODE = "en"
USE_TZ = True
TIME_ZONE = "UTC"

CSRF_COOKIE_SAMESITE = "Strict"
CSRF_FAILURE_VIEW = "arkund.bench.errors.csrf_failure"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
# One file a request, streamed to the media disk; never held in memory.
(DATA / "uploads").mkdir(exist_ok=True)
FILE_UPLOAD_TEMP_DIR = DATA / "uploads"
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 << 20

REDIS_URL = os.environ.get("ARKUND_REDIS_URL", "")

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
