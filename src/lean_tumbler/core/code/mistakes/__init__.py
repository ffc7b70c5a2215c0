"""Mistakes in source code: one table of rules, and how each is seen."""
