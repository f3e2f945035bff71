"""Platforms as data: what a description says, and how its requests are filled in. No I/O."""
