"""Compare: two sides variable by variable, a file before and after a change, one environment of a document with its
levels.

Read in this order: `sides`, `file_diffs`, `document_environment`. May import `actions.delivery` and `actions.secrets`.
"""
