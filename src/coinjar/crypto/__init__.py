"""Keys and sealed values: bytes and texts in, bytes and texts out. docs/formats.md says it byte for byte."""
