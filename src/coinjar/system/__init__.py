"""Access to the operating system: files replaced whole under a lock, files in memory, processes, version control.

Knows no jar.
"""
