"""What the commands do, callable without them."""
