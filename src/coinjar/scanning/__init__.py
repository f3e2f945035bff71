"""Search files for mentions: which files, several at a time, and only those that changed since the last search."""
