"""The jar on disk: read with positions, edited in place, under a lock."""
