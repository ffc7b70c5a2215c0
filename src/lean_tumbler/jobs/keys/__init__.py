"""Keys for sealed backups."""
