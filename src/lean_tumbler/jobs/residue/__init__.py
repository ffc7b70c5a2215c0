"""Finding stored values where they should be no more."""
