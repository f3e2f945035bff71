"""Check a jar: run all rules over its values, its destinations' files, its readers and the code beside it.

Read in this order: `check` (runs the rules), then what it collects for them: `destination_checks`, `port_checks`,
`secret_checks`. May import `actions.delivery`, `actions.mentions`, `actions.output` and `actions.secrets`.
"""
