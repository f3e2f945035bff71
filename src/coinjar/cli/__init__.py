"""The command line: arguments, calls and display; one module per command."""
