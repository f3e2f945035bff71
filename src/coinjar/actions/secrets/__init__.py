"""Encrypt secrets: identities, readers and their keys, and the one transaction that changes encrypted values.

Read in this order: `identities`, `transaction` (every change of an encrypted value goes through it), `readers`,
`encrypt_plain`, `known_secrets`. Imports no other action.
"""
