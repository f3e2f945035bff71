"""What was delivered, when and by whom; and the locks under which it is done. SQLite beside the jar, or a PostgreSQL that a team shares."""
