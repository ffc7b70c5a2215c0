"""Logins over HTTP."""
