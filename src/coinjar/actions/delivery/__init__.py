"""Deliver to running systems: what is live, what changes, the lock, the write, the record, and undo.

Read in this order: `selection`, `live_stage`, `deliver`, `records`, `snapshots`, `drift`, `history`, `dependents`,
`stored_values`. May import `actions.secrets` and `actions.editing`.
"""
