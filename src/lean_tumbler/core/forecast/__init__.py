"""When accounts return: a model of it, its bands, and what it means for a migration."""
