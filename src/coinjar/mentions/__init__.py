"""Where code, documents and templates use environment variables. Pure: bytes in, mentions out.

A language is a module here and a line in `languages`. Programming languages are turned into the few shapes of `tree` that matter, and `reading` finds the
mentions in them; what is no programming language has a reader of its own.
"""
