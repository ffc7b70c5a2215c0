"""What all SQL servers have in common: tables, guards, catalogues, claims and errors."""
