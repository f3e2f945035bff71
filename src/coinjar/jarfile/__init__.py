"""The jar on disk: read with positions, edited in place, under a lock."""

import coinjar.documents  # noqa: F401 - first of all, for its quick import of PyYAML
