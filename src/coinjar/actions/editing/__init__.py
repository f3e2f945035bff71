"""Change a jar: make one, set and remove values, adopt a source, edit in an editor, generate, rename.

Read in this order: `values` and `value_changes` (every change of a value goes through these), `new`, `adopt`,
`edit_buffer`, `generate`, and `rename` (one list of edits from `rename_jar`, `rename_sealed` and `rename_code`;
`rename_diff` shows it) with its last step, `finish_rename`. May import `actions.secrets` and `actions.mentions`.
"""
