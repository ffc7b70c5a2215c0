"""What a stored value can be: one module per family, and the catalogue that lists them."""
