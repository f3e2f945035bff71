"""Find where code, documents and templates use environment variables. Pure: bytes in, mentions out.

A language is a module here and a line in `languages`. Programs are converted to the few node types of `tree` that
matter, and `program_reader` finds the mentions in them; other formats have readers of their own.
"""
