"""Families that are read, checked and layered, and never written."""
