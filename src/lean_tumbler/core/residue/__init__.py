"""Stored values in bytes of any kind: how they are found, in which encodings, and how surely."""
