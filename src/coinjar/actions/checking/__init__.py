"""Check a jar: run all rules over its values, its destinations' files, its readers and the code beside it.

Read in this order: `check` (runs the rules), `rules` (lists those that read files; the others are in `core.rules`),
`context` (what they get), then the rules: `reader_rules`, `tracked_rules`, `dependent_rules`, `destination_checks`,
`port_checks`. May import `actions.delivery`, `actions.mentions`, `actions.output` and `actions.secrets`.
"""
