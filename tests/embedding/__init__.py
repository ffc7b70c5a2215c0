"""Checks that are written out in other languages, held against the library."""
