"""Hand variables out: files of destinations, text in a dialect, and the environment of a program.

Read in this order: `render_text`, `render_files`, `exec_program`, `child_run`, `masked_run`, `watched_run`. May import
`actions.comparing` and `actions.secrets`.
"""
