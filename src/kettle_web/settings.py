"""Django's settings; everything that differs comes from the environment."""

import os
import secrets
from pathlib import Path

from kettle_engine.logs import logging_settings
from kettle_web.frame.local_zone import local_zone

ROOT = Path(__file__).parents[2]
DATA = Path(os.environ.get("KETTLE_DATA", ROOT / "var"))
TAKES = DATA / "takes"


def _secret() -> str:
    path = DATA / "secret.txt"
    if not path.exists():
        DATA.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


SECRET_KEY = _secret()
# What asks for TLS: Vast Kettle answers on 127.0.0.1 only.
SILENCED_SYSTEM_CHECKS = ["security.W004", "security.W008", "security.W016"]
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost"]
INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "csp",
    "kettle_web",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "csp.middleware.CSPMiddleware",
    "kettle_web.frame.errors.TellErrorsMiddleware",
]
ROOT_URLCONF = "kettle_web.urls"
ASGI_APPLICATION = "kettle_web.asgi.application"
MESSAGE_STORAGE = "kettle_web.frame.messages.Messages"
CSRF_COOKIE_NAME = "vast_kettle_form"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": sorted(Path(__file__).parent.glob("*/templates")),
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
            ]
        },
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "db.sqlite3",
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
LANGUAGE_CODE = "en-gb"
# Of what pages and names of files say; rows have UTC.
TIME_ZONE = local_zone()
USE_TZ = True
STATIC_URL = "static/"
STATIC_ROOT = DATA / "static"
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "kettle_web.frame.static_files.HashedFiles"},
}
FILE_UPLOAD_PERMISSIONS, FILE_UPLOAD_DIRECTORY_PERMISSIONS = 0o600, 0o700
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'none'"],
        "script-src": ["'self'"],
        "style-src": ["'self'"],
        "img-src": ["'self'", "blob:", "data:"],
        "media-src": ["'self'"],
        "font-src": ["'self'"],
        "connect-src": ["'self'"],
        "form-action": ["'self'"],
        "frame-ancestors": ["'none'"],
        "base-uri": ["'none'"],
    }
}
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_HTTPONLY = True
X_FRAME_OPTIONS = "DENY"
DATA_UPLOAD_MAX_MEMORY_SIZE = 1_000_000
# Larger files lie on disk while they are looked at.
FILE_UPLOAD_MAX_MEMORY_SIZE = 2_000_000
FILE_UPLOAD_HANDLERS = [
    "kettle_web.frame.uploads.LimitedUploadHandler",
    "django.core.files.uploadhandler.MemoryFileUploadHandler",
    "django.core.files.uploadhandler.TemporaryFileUploadHandler",
]
LOGGING = logging_settings(DATA)
