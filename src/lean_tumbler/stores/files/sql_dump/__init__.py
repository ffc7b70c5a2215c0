"""SQL dumps: statements that build tables anew."""
