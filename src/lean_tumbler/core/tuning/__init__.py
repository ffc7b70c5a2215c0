"""Choosing parameters by measuring them."""
