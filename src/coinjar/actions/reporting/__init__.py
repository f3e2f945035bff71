"""What a report says of a jar, collected from all that is known of it."""
