"""Families that new values are written with: slow, and at some cost still recommended."""
