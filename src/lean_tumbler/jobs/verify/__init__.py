"""Known accounts held against the store."""
