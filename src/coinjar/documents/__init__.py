"""YAML and JSON texts with a position for everything: read, and edited in place. No files here."""

from coinjar.documents.fast_yaml_import import import_yaml

import_yaml()
