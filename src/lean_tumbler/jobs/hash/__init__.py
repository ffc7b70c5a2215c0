"""The stored value for a new password."""
