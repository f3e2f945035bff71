"""YAML and JSON texts with a position for every node: read, and edited in place. No file access."""

from coinjar.documents.fast_yaml_import import import_yaml

import_yaml()
