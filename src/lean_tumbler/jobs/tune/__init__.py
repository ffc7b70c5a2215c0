"""Scheme and costs by measurement."""
