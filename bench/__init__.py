"""What is measured: `make bench`."""
