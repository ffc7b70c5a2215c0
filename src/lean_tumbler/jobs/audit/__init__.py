"""Find and judge stored passwords."""
