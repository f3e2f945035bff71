"""Move a set of variables from one place to another by a sheet that a person reviews.

Read in this order. Making a sheet: `endpoints` (both places), `sheet_builder` with `inbound_references` and
`sheet_digest`. Applying it: `migration`, and its steps `jar_update`, `flat_files`, `repointing`, `verification` and
`settlement`; `rehearsal` is a dry run. After it: `explain_differences`. May import every other action.
"""
