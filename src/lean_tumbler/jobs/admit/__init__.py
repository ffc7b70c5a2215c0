"""One login, and its upgrade."""
