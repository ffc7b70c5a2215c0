"""Who must be told and reset after a copy of the table has left the house."""
