"""Files of accounts, a module or folder a format: reading them, and writing copies of them."""
