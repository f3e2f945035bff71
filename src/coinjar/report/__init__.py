"""A report of a jar: the page, its figures, the reference in Markdown, the data."""
