"""Python 3.11."""
