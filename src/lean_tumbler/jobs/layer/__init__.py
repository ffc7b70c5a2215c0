"""The target over every legacy digest."""
