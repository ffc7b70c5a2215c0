"""Source code: what is read from it."""
