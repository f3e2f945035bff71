"""Destinations that are running systems: each a module behind the protocol of `base`."""
