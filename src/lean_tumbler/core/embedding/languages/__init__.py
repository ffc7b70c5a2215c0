"""The languages that a check is written in, a folder each."""
