"""A password for an account that none opens."""
