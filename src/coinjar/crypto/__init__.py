"""Keys and encrypted values: bytes and texts in, bytes and texts out. docs/formats.md describes every byte."""
