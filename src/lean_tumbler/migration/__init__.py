"""Moving accounts to the target: one at its login, or many in bulk."""
