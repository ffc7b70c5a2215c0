"""CSV, TSV and their relatives (RFC 4180)."""
