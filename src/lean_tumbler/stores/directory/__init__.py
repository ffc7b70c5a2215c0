"""Directories (RFC 4511): reading them, and checking logins against them."""
