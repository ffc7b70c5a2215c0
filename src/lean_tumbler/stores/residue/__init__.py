"""Places in which stored values may remain: files, archives, streams, databases, directories."""
