"""Judging whole columns: few shapes parsed with care, every row counted."""
