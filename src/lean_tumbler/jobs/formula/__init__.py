"""Recover a formula, or read one aloud."""
