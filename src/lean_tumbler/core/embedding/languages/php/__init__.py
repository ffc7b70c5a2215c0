"""PHP 8, in the syntax of 7.4."""
