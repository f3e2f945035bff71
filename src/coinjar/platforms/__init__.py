"""Platforms as data: what a description contains, and how its requests are filled in. No I/O."""
