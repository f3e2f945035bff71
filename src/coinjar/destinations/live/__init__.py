"""Destinations that are running systems: one module each, behind the protocol of `base`."""
