"""Records of deliveries, and their locks. SQLite beside the jar, or a PostgreSQL that a team shares."""
