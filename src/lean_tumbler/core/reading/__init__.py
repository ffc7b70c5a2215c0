"""What a row may be: the one place that decides it, for every command and every login."""
