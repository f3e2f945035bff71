"""Rotate secrets: make a new value, change it in its system, switch, deliver, confirm, forget the old one.

Read `rotated_secret` (what is rotated), `programs` (what changes the system), `carriers` (what gets the value), then
`rotate` (the steps).
"""
