"""The whole change on a copy."""
