"""The worked example: an invented ferry line, its jar, its programs, and and the steps that show them."""
