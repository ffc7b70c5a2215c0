"""The whole job on invented data."""
