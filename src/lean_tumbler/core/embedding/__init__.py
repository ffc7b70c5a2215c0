"""The check of one store as a source file of another language: its form, and what writes it out."""
