"""Static files whose names carry a hash of their contents: a browser keeps them for good."""

from django.contrib.staticfiles.storage import ManifestStaticFilesStorage


class HashedFiles(ManifestStaticFilesStorage):
    """Modules name each other by their hashed names, too."""

    support_js_module_import_aggregation = True
