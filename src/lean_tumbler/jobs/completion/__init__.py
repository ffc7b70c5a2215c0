"""Completion in the shell."""
