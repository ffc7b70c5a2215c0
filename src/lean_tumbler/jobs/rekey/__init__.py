"""Putting stored values under a key that stands apart, under another one, or under none."""
