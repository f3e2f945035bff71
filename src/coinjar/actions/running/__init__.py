"""Ask running systems the declared proofs: see `confirm`. May import `actions.delivery`."""
