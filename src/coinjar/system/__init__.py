"""The operating system's part: files replaced whole under a lock, files in memory, processes, version control. Knows no jar."""
