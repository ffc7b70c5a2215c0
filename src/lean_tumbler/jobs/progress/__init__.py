"""Where the migration stands."""
