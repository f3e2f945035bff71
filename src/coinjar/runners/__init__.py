"""Runners as data: what runs a document's steps, containers or workloads, and how it takes variables. No I/O."""
