"""Exported files, taken apart so that single values can be replaced and all else stays as it is."""
