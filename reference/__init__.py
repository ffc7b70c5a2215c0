"""The pages of docs/ that are generated from the code."""
