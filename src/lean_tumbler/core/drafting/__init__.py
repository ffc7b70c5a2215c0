"""Drafting a policy: how a store's values came about, as far as it shows and accounts prove."""
