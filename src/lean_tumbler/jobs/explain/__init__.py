"""One stored value, or one account, read aloud."""
