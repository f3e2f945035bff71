"""Move a set of variables from one place to another by a sheet that a person reviews.

Read in this order: `endpoints` (both places), `sheet_builder` (makes the sheet), `migration` (carries it out), then its
steps: `rehearsal`, `flat_files`, `repointing`, `explain_differences`. May import every other action.
"""
