"""The jar on disk: read with positions, edited in place, under a lock."""

from coinjar.jarfile.quickyaml import import_yaml

import_yaml()
