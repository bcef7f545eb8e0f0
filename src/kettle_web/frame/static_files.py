"""Static files whose names carry a hash of their contents: a browser keeps them for good."""

import hashlib
from pathlib import Path

import django
from django.conf import settings
from django.contrib.staticfiles.finders import get_finders
from django.contrib.staticfiles.storage import ManifestStaticFilesStorage
from django.core.management import call_command

# Says what the files that were collected are made of; it goes before they do.
MADE_OF = "made-of.txt"


class HashedFiles(ManifestStaticFilesStorage):
    """Modules name each other by their hashed names, too."""

    support_js_module_import_aggregation = True


def collect_static() -> None:
    """Collect static files, unless those that are there were made of the same ones."""
    mark, made_of = Path(settings.STATIC_ROOT) / MADE_OF, _made_of()
    if mark.exists() and mark.read_text() == made_of:
        return
    mark.unlink(missing_ok=True)
    call_command("collectstatic", verbosity=0, interactive=False, clear=True)
    mark.write_text(made_of)


def _made_of() -> str:
    """Another text whenever a file that is collected, or what collects it, is another one."""
    found = hashlib.sha256(django.get_version().encode())
    found.update(Path(__file__).read_bytes())
    for finder in get_finders():
        for path, storage in sorted(finder.list([]), key=lambda pair: pair[0]):
            stat = Path(storage.path(path)).stat()
            found.update(f"{path} {stat.st_size} {stat.st_mtime_ns}\n".encode())
    return found.hexdigest()
