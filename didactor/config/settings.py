"""Settings, read from the environment and the state folder that bin/start keeps.

DIDACTOR_STATE      folder of everything kept on this machine (default: var/ in the checkout)
DIDACTOR_DB_*       HOST, PORT, NAME, USER, PASSWORD of a database of one's own
DIDACTOR_SECRET     secret key (default: made once and kept in the state folder)
DIDACTOR_HOSTS      host names the site answers to, separated by commas (default: any, for a home network)
DIDACTOR_HTTPS      1 when a proxy in front serves HTTPS
DIDACTOR_STORE      s3://bucket of an object store, with DIDACTOR_STORE_ADDRESS, _REGION, _KEY and _SECRET (default: a folder)
DIDACTOR_PROXY_MEDIA  path below which the proxy serves stored files itself (default: this process does)
DIDACTOR_OPEN       1 where anybody may found a studio (default: the first one only)
DIDACTOR_DEBUG      1 for Django's debug pages
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from csp.constants import NONE, SELF

# Before anything loads a library of numbers: several processes share the machine, and each of them works on one thing at a time. Two
# threads that wait for each other over small matrices took six times as long as one.
for _library in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):
    os.environ.setdefault(_library, "1")

ROOT = Path(__file__).resolve().parents[2]
STATE = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var"))


def _kept(name: str, default: str = "") -> str:
    path = STATE / name
    return path.read_text().strip() if path.exists() else default


def _secret() -> str:
    path = STATE / "secret_key"
    if not path.exists():
        STATE.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text().strip()


DEBUG = os.environ.get("DIDACTOR_DEBUG") == "1"
TESTING = os.environ.get("DIDACTOR_TESTING") == "1"
HTTPS = os.environ.get("DIDACTOR_HTTPS") == "1"
SECRET_KEY = os.environ.get("DIDACTOR_SECRET") or _secret()
CSRF_TRUSTED_ORIGINS = [o for o in os.environ.get("DIDACTOR_ORIGINS", "").split(",") if o]
#: On a home network any name will do; in operation only those of the site.
_HOSTS = ",".join(["127.0.0.1", *(origin.split("//")[-1].split(":")[0] for origin in CSRF_TRUSTED_ORIGINS)]) if HTTPS else "*"
ALLOWED_HOSTS = os.environ.get("DIDACTOR_HOSTS", _HOSTS).split(",")

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django.contrib.humanize",
    "django.forms",
    "axes",
    "csp",
    "django_htmx",
    "django_otp",
    "django_otp.plugins.otp_static",
    "django_otp.plugins.otp_totp",
    "django_prometheus",
    "procrastinate.contrib.django",
    "didactor.people",
    "didactor.library",
    "didactor.assignments",
    "didactor.takes",
    "didactor.practice",
    "didactor.review",
    "didactor.progress",
    "didactor.stand",
    "didactor.letters",
    "didactor.archive",
    "didactor.demo",
    "didactor.operation",
]

MIDDLEWARE = [
    "django_prometheus.middleware.PrometheusBeforeMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "didactor.config.timing.ServerTimingMiddleware",
    "didactor.web.middleware.plain_text",
    "didactor.web.middleware.not_stored",
    "didactor.practice.passes.by_pass",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.locale.LocaleMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "didactor.people.sessions.noted",
    "didactor.people.languages.spoken",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "didactor.people.sent_once.once",
    "django_htmx.middleware.HtmxMiddleware",
    "axes.middleware.AxesMiddleware",
    "django_prometheus.middleware.PrometheusAfterMiddleware",
]

ROOT_URLCONF = "didactor.config.urls"
WSGI_APPLICATION = "didactor.config.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [ROOT / "didactor" / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "didactor.people.context.shell",
                "didactor.review.context.waiting",
            ],
            "builtins": ["didactor.people.templatetags.forms_sent_once", "didactor.people.templatetags.wording"],
        },
    },
]
FORM_RENDERER = "django.forms.renderers.TemplatesSetting"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": os.environ.get("DIDACTOR_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("DIDACTOR_DB_PORT") or _kept("postgres.port", "5432"),
        "NAME": os.environ.get("DIDACTOR_DB_NAME", "didactor"),
        "USER": os.environ.get("DIDACTOR_DB_USER", "didactor"),
        "PASSWORD": os.environ.get("DIDACTOR_DB_PASSWORD") or _kept("postgres.password"),
        # A restarted database must not leave dead connections behind.
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        # Many small questions: reading one row here and there costs little on what databases lie on today, and to bring in helpers or a
        # compiler takes longer than the answer.
        "OPTIONS": {"options": "-c random_page_cost=1.1 -c max_parallel_workers_per_gather=0 -c jit=off"},
    }
}
#: Drawings of scores: each is made once and never changes.
CACHES = {
    "default": {
        "BACKEND": "django.core.cache.backends.filebased.FileBasedCache",
        "LOCATION": STATE / "cache",
        "OPTIONS": {"MAX_ENTRIES": 20_000},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

AUTH_USER_MODEL = "people.Person"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "didactor.people.backends.CardBackend",
    "didactor.people.backends.PictureBackend",
    "didactor.people.backends.PasswordBackend",
]
PASSWORD_HASHERS = [
    "django.contrib.auth.hashers.Argon2PasswordHasher",
    "django.contrib.auth.hashers.PBKDF2PasswordHasher",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
LOGIN_URL = "people:sign_in"
CSRF_FAILURE_VIEW = "didactor.web.refusals.sent_too_late"
LOGIN_REDIRECT_URL = "home"
#: Whether anybody may found another studio here; the first one is founded by whoever opens an empty installation.
OPEN_TO_STUDIOS = os.environ.get("DIDACTOR_OPEN") == "1"
OTP_TOTP_ISSUER = "Didactor"
PASSWORD_RESET_TIMEOUT = 2 * 60 * 60
AXES_FAILURE_LIMIT = 10
#: A card's code is long and random: a wrong one tells nothing of whose it was meant to be, and locks nobody out. What is slowed down are
#: guesses at a teacher's password, for that name at that address, and at a child's pictures.
AXES_LOCKOUT_PARAMETERS = "didactor.people.pictures.counted_by"
AXES_COOLOFF_TIME = "didactor.people.pictures.counted_for"
AXES_USE_ATTEMPT_EXPIRATION = True
#: What was typed is not kept with a failure, and nothing at all of who signed in when.
AXES_SENSITIVE_PARAMETERS = ["teacher-username", "teacher-password", "card-code", "so_far", "picture", "code"]
AXES_DISABLE_ACCESS_LOG = True
AXES_CLIENT_IP_CALLABLE = "didactor.web.addresses.client_address"
#: Proxies in front whose word on the client's address is taken.
TRUSTED_PROXIES = int(os.environ.get("DIDACTOR_PROXIES", "0"))
AXES_LOCKOUT_TEMPLATE = "people/locked_out.html"
AXES_ENABLED = not TESTING
SESSION_ENGINE = "didactor.people.sessions"
SESSION_COOKIE_AGE = 60 * 60 * 24 * 60
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = HTTPS
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https") if HTTPS else None
SECURE_REFERRER_POLICY = "same-origin"
SECURE_SSL_REDIRECT = HTTPS
SECURE_HSTS_SECONDS = 60 * 60 * 24 * 365 if HTTPS else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = HTTPS and os.environ.get("DIDACTOR_HSTS_SUBDOMAINS") == "1"
#: Subdomains are another's to decide; the operator turns it on.
SILENCED_SYSTEM_CHECKS = [] if SECURE_HSTS_INCLUDE_SUBDOMAINS else ["security.W005", "security.W021"]
X_FRAME_OPTIONS = "DENY"

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "font-src": [SELF],
        "img-src": [SELF, "data:"],
        "media-src": [SELF, "blob:"],
        "connect-src": [SELF],
        "worker-src": [SELF],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
        "base-uri": [NONE],
    }
}

#: What is said, and in which words: ``en-gb`` is English that counts in crotchets and quavers.
LANGUAGE_CODE = "en"
LANGUAGES = [("en", "English"), ("en-gb", "English (crotchets, quavers)"), ("de", "Deutsch")]
LOCALE_PATHS = [ROOT / "didactor" / "locale"]
#: Where the site is reached, for links in letters.
ADDRESS = os.environ.get("DIDACTOR_ADDRESS", CSRF_TRUSTED_ORIGINS[0] if CSRF_TRUSTED_ORIGINS else "http://127.0.0.1:8000").rstrip("/")
#: Without a mail server letters are kept as files beside the database.
MAIL_HOST = os.environ.get("DIDACTOR_MAIL_HOST", "")
EMAIL_BACKEND = f"django.core.mail.backends.{'smtp' if MAIL_HOST else 'filebased'}.EmailBackend"
EMAIL_FILE_PATH = STATE / "mailbox"
EMAIL_HOST, EMAIL_PORT = MAIL_HOST, int(os.environ.get("DIDACTOR_MAIL_PORT", "587"))
EMAIL_HOST_USER, EMAIL_HOST_PASSWORD = os.environ.get("DIDACTOR_MAIL_USER", ""), os.environ.get("DIDACTOR_MAIL_PASSWORD", "")
EMAIL_USE_TLS = EMAIL_PORT == 587
EMAIL_USE_SSL = EMAIL_PORT == 465
EMAIL_TIMEOUT = 15
DEFAULT_FROM_EMAIL = os.environ.get("DIDACTOR_MAIL_FROM", "didactor@localhost")

TIME_ZONE = os.environ.get("DIDACTOR_TIME_ZONE", "Europe/Oslo")
USE_TZ = True

STATIC_URL = "/static/"
STATIC_ROOT = STATE / "static"
STATICFILES_DIRS = [ROOT / "didactor" / "static", ("vendor", STATE / "vendor")]
MEDIA_ROOT = STATE / "media"
UPLOAD_ROOT = STATE / "uploads"
#: An object store that several machines share, s3://bucket or s3://bucket/folder; without one, files lie in a folder here.
STORE = os.environ.get("DIDACTOR_STORE", "")
_BUCKET, _, _FOLDER = STORE.removeprefix("s3://").partition("/")
_OBJECTS = {
    "bucket_name": _BUCKET,
    "location": _FOLDER,
    "endpoint_url": os.environ.get("DIDACTOR_STORE_ADDRESS") or None,
    "region_name": os.environ.get("DIDACTOR_STORE_REGION", "us-east-1"),
    "access_key": os.environ.get("DIDACTOR_STORE_KEY"),
    "secret_key": os.environ.get("DIDACTOR_STORE_SECRET"),
}
#: The path below which a reverse proxy serves stored files itself, when it is told to (X-Accel-Redirect); empty: this process does.
PROXY_MEDIA = os.environ.get("DIDACTOR_PROXY_MEDIA", "")
STORAGES = {
    "default": {"BACKEND": "didactor.web.object_store.ObjectStore", "OPTIONS": _OBJECTS}
    if STORE
    else {"BACKEND": "didactor.web.store.FolderStore", "OPTIONS": {"location": MEDIA_ROOT}},
    "staticfiles": {
        "BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage" if TESTING else "didactor.config.static.ModuleManifestStorage"
    },
}
#: Always a real file: the sandbox reads through a descriptor.
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
DATA_UPLOAD_MAX_MEMORY_SIZE = 10 * 1024 * 1024
#: Recordings and scores are read by this service alone.
FILE_UPLOAD_PERMISSIONS, FILE_UPLOAD_DIRECTORY_PERMISSIONS = 0o600, 0o700
#: What one student's recordings may take in all.
STUDIO_QUOTA_BYTES = int(float(os.environ.get("DIDACTOR_STUDIO_QUOTA_GB", "1000")) * 1024**3)
STUDENT_QUOTA_BYTES = int(float(os.environ.get("DIDACTOR_STUDENT_QUOTA_GB", "20")) * 1024**3)

#: Processes that serve pages (manage.py serve).
WEB_PROCESSES = int(os.environ.get("DIDACTOR_WEB", min(4, os.cpu_count() or 1)))
#: Whether takes are heard in a process apart, with limits of its own; tests that do not ask for it hear in theirs.
HEAR_APART = not TESTING
#: Whether attempts are heard by the web process itself: in tests there is nobody else.
LISTEN_HERE = TESTING
#: Processes that listen while somebody practises (manage.py listen).
LISTENING_PROCESSES = int(os.environ.get("DIDACTOR_LISTENING", min(4, os.cpu_count() or 1)))
#: Takes that are heard side by side.
HEARING_SLOTS = int(os.environ.get("DIDACTOR_HEARING_SLOTS", min(4, os.cpu_count() or 1)))
PROCRASTINATE_AUTODISCOVER_MODULE_NAME = "jobs"
PROCRASTINATE_ON_APP_READY = None

#: Who watches over the service asks for figures with it; without one nobody gets any.
METRICS_TOKEN = os.environ.get("DIDACTOR_METRICS_TOKEN", "")
PROMETHEUS_EXPORT_MIGRATIONS = False

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "filters": {"without_secrets": {"()": "didactor.operation.logs.WithoutSecrets"}},
    "formatters": {
        "line": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"},
        "json": {"()": "pythonjsonlogger.json.JsonFormatter", "format": "{asctime}{levelname}{name}{message}", "style": "{"},
    },
    "handlers": {
        "console": {
            "class": "logging.StreamHandler",
            "formatter": "json" if os.environ.get("DIDACTOR_LOG") == "json" else "line",
            "filters": ["without_secrets"],
        }
    },
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"didactor": {"level": "INFO"}, "axes": {"level": "ERROR"}, "django.request": {"level": "ERROR"}},
}
