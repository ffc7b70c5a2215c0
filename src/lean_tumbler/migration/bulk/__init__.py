"""What steps that write many rows share."""
