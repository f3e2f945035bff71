"""The worked example: an invented ferry line, its jar, its programs, and the walk through them."""
