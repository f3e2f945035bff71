"""What the commands do, callable without the command line."""
