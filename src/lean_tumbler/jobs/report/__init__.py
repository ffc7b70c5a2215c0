"""The file for whoever signs off."""
