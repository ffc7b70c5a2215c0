"""`code`: which lines of source make, check, write and leak passwords."""
