"""Formulas: how a legacy system turned a password into its stored value."""
