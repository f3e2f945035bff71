"""Search code and documents for variables, and match what is found with a jar: see `search`.

Imports no other action.
"""
