"""Draft a policy for a database, file or directory."""
