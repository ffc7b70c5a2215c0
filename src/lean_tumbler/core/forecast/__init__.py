"""When accounts return: a model of it, its intervals, and what it means for a migration."""
